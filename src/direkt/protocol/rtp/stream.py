"""The tracks of one sender together: RTP and RTCP packets in, media events out, on one time line.

Until it is known how the tracks' clocks lie to each other, samples wait: for the sender's reports (RFC 3550, 6.4.1), which tell
it best; after four seconds, what the server said at the start of the stream must do; and where it said nothing, when packets came.
"""

from __future__ import annotations

import heapq
import statistics
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass, field
from fractions import Fraction

from direkt.media import Damaged, Delivery, Format, MediaEvent, Odd, Track, batch
from direkt.protocol.rtp import formats, packet, rtcp
from direkt.protocol.rtp.order import Counts, Order, Ordered
from direkt.protocol.rtp.packet import RtpError
from direkt.protocol.rtp.payload import PayloadUnit
from direkt.protocol.rtsp.sdp import Encoding

HOLD = 4.0  # s
_MOST_HELD = 64 << 20  # bytes of samples that wait
_REPORT_EVERY = 5.0  # s (RFC 3550, 6.2)
_NTP = 1 << 32
_SANE = 5.0  # s that tracks may begin apart
_AGREED = 0.1  # s by which later reports may contradict what was assumed
_OFFSETS = 5  # reports of which the median counts
_REMEMBERED = 240  # reports: some ten minutes
_DRIFT_AFTER = 60.0  # s between reports that tell of drift
_STEP = 0.5  # s
_OVERTAKEN = 0.3  # s for which a goodbye may be ahead of the last packets
_FAREWELL = 1.0  # s behind a goodbye in which another source may take over
_GAIN = Fraction(1, 1000)  # s of correction in each second
_CNAME = "direkt"
_JUMP = 1.0  # s that a picture may lie back and still be one that is shown earlier


@dataclass(slots=True)
class _Decoding:
    """Decoding times of pictures of which only the presentation times are sent."""

    clock: int
    last: int | None = None
    count: int = 0
    waiting: list[int] = field(default_factory=list)  # presentation times that are no decoding times yet

    def next(self, time: int, depth: int) -> int:
        """Of the picture shown at ``time`` (ticks); ``depth``: pictures that may come before one shown earlier."""
        last = self.last
        if last is not None and time < last - _JUMP * self.clock:
            self.waiting.clear()
            last = None
        if last is not None and not depth and time < last:
            depth = 1  # nobody said so
        heapq.heappush(self.waiting, time)
        self.count += 1
        if len(self.waiting) > depth:
            made = heapq.heappop(self.waiting)
            while len(self.waiting) > depth:
                heapq.heappop(self.waiting)
        else:  # the first ones: a step each in front of what comes
            made = self.waiting[0] - (depth + 1 - len(self.waiting)) * self.clock // 25
        self.last = made if last is None else max(made, last + (1 if self.waiting or depth else 0))
        return self.last


class _Track:
    """One medium."""

    def __init__(self, track: Track, encoding: Encoding, wait: float, stream: RtpStream) -> None:
        self.track: Track = track
        self.encoding = encoding
        self.others: tuple[Encoding, ...] = ()
        self._wait = wait
        self.order = Order(encoding.clock, wait)
        self.payload = formats.payload(track, encoding, stream.remark)
        self.told: Format | None = None
        # that wait: how they are coded, pictures of reordering, and how many are gone in front of each
        self.units: list[tuple[Format, int, PayloadUnit, int]] = []
        self.bytes = 0
        self.zero: int | None = None  # time stamp, extended, at which the stream's own time is 0
        self.first: PayloadUnit | None = None
        self.report: tuple[int, int, float] | None = None  # the latest: time, extended stamp, when it came
        self.early: tuple[rtcp.SenderReport, float] | None = (
            None  # a report that came before the first packet, and when
        )
        self.begins: int | None = None  # time stamp of the moment at which all begin, as the server said
        self.decoding = _Decoding(encoding.clock)
        self.delivered = (-1, -1, -1)
        self.before = (0, 0)  # expected and lost at the latest report of ours
        self.drift: float | None = None
        self.gone = 0  # samples that were left out in front of the next one
        self.suspect = False  # packets are missing in front of the next one
        self.goodbye: float | None = None  # when the sender said it, and sent nothing since

    def turn_out(self, payload_type: int, stream: RtpStream) -> None:
        """The first packet is of another encoding that was described."""
        for encoding in self.others:
            if encoding.payload_type == payload_type and encoding.clock:
                self.encoding = encoding
                self.order = Order(encoding.clock, self._wait)
                self.payload = formats.payload(self.track, encoding, stream.remark)
                self.decoding = _Decoding(encoding.clock)

    def wall(self, time: int) -> Fraction | None:
        """The sender's clock (s) at a time stamp."""
        if self.report is None:
            return None
        ntp, stamp, _ = self.report
        return Fraction(ntp, _NTP) + Fraction(time - stamp, self.encoding.clock)


class RtpStream:
    """What a sender sends. ``tracks``: what each medium is, of all it may be (see offer()); ``wait``: s that a missing packet is waited for.

    ``made_up``: samples of which something was lost are made up and handed on; otherwise they are left out. ``follow``: where the
    sender's clocks run apart, the sound follows the picture.
    """

    def __init__(
        self, tracks: list[tuple[Track, Encoding]], *, wait: float, made_up: bool, follow: bool = False, ssrc: int = 1
    ) -> None:
        self._events: list[MediaEvent] = []
        self._told: set[str] = set()
        self._made_up, self._follow, self._ssrc = made_up, follow, ssrc
        self.left_out = 0  # samples
        self.ended = False  # the sender said goodbye, and meant it
        self._tracks = [_Track(track, encoding, wait, self) for track, encoding in tracks]
        self._since: float | None = None  # when the first packet came
        self._aligned = len(self._tracks) == 1
        self._by_reports = False
        self._next_report = 0.0
        self._compared = 0  # reports
        self._offsets: deque[tuple[float, float]] = deque(maxlen=_REMEMBERED)  # when, and sound against picture (s)

    def remark(self, text: str) -> None:
        """Something that breaks a rule and could be passed over; each is told once."""
        if text not in self._told and len(self._told) < 50:
            self._told.add(text)
            self._events.append(Odd(text))

    def offer(self, number: int, encodings: Iterable[Encoding]) -> None:
        """What else a track may turn out to be, by its first packet."""
        self._tracks[number].others = tuple(encodings)

    def begins(self, number: int, timestamp: int | None) -> None:
        """The time stamp of a track at which the server says that all begin (RFC 2326, 12.33)."""
        self._tracks[number].begins = timestamp

    @property
    def counts(self) -> list[Counts]:
        """Packets of each track so far."""
        return [track.order.counts for track in self._tracks]

    # Packets

    def rtp(self, number: int, data: bytes, now: float) -> None:
        """A packet of a track."""
        track = self._tracks[number]
        if rtcp.is_rtcp(data):  # RFC 5761: both kinds at one place
            self.rtcp(number, data, now)
            return
        try:
            found = packet.parse(data)
        except RtpError as error:
            self.remark(str(error))
            return
        if found.payload_type != track.encoding.payload_type and track.order.ssrc is None:
            track.turn_out(found.payload_type, self)
        if found.payload_type != track.encoding.payload_type:
            self.remark(
                f"{track.track} packets of payload type {found.payload_type}, which was not described: passed over"
            )
            return
        # packets of the same source may come behind its goodbye for a moment: they take another way (RFC 3550, 6.3.7)
        if track.goodbye is not None and (found.ssrc != track.order.ssrc or now - track.goodbye > _OVERTAKEN):
            track.goodbye = None
        if self._since is None:
            self._since = now
            self._next_report = now + _REPORT_EVERY / 2
        before = track.order.counts.sources, track.order.counts.restarts
        for ordered in track.order.add(found, now):
            self._give(track, ordered)
        if track.early is not None:
            report, at = track.early
            track.early = None
            if report.ssrc == track.order.ssrc:
                track.report = (report.ntp, track.order.extended(report.timestamp), at)
        counts = track.order.counts
        if counts.sources != before[0]:
            track.report = None
            self.remark(f"another {track.track} source took over in mid-stream (its SSRC changed)")
        if counts.restarts != before[1]:
            self.remark(f"the {track.track} packets' numbers began anew in mid-stream")

    def rtcp(self, number: int, data: bytes, now: float) -> None:
        """A control packet of a track."""
        track = self._tracks[number]
        try:
            reports = rtcp.parse(data)
        except RtpError as error:
            self.remark(str(error))
            return
        for report in reports:
            if isinstance(report, rtcp.SenderReport) and track.order.ssrc in (None, report.ssrc) and report.ntp:
                if track.order.ssrc is None:
                    track.early = (report, now)
                    continue
                track.report = (report.ntp, track.order.extended(report.timestamp), now)
                self._compare(now)
            elif isinstance(report, rtcp.Goodbye) and (not report.sources or track.order.ssrc in report.sources):
                track.goodbye = now

    @property
    def goodbye(self) -> bool:
        """Whether the sender said goodbye of all that came, and nothing came since."""
        there = [track for track in self._tracks if track.order.ssrc is not None]
        return bool(there) and all(track.goodbye is not None for track in there)

    def reports(self, now: float) -> list[tuple[int, bytes]]:
        """What a receiver tells the sender, when it is due: for each track its number and a packet (RFC 3550, 6.4.2)."""
        if self._since is None or now < self._next_report:
            return []
        self._next_report = now + _REPORT_EVERY
        out = []
        for number, track in enumerate(self._tracks):
            counts, ssrc = track.order.counts, track.order.ssrc
            if ssrc is None:
                continue
            expected = counts.received + counts.lost
            all_of, lost = expected - track.before[0], counts.lost - track.before[1]
            track.before = (expected, counts.lost)
            share = max(0, min(255, 256 * lost // all_of)) if all_of > 0 else 0
            last = delay = 0
            if track.report is not None:
                last, delay = track.report[0] >> 16 & 0xFFFFFFFF, round((now - track.report[2]) * 65536)
            block = rtcp.Block(ssrc, share, counts.lost, track.order.highest, round(counts.jitter), last, delay)
            out.append((number, rtcp.receiver_report(self._ssrc + number, _CNAME, [block])))
        return out

    # Time

    def _give(self, track: _Track, ordered: Ordered) -> None:
        """A packet in its turn."""
        units = track.payload.add(ordered)
        if ordered.lost and not ordered.anew and not self._made_up:
            # of the samples that end in front of it, those that lack something are left out; else whole ones are gone
            track.suspect = not any(unit.made_up for unit in units)
        self._hold(track, units)

    def _hold(self, track: _Track, units: list[PayloadUnit]) -> None:
        for unit in units:
            if unit.made_up and not self._made_up:
                self.left_out += 1
                track.gone += 1
                track.suspect = False
                continue
            if track.first is None:
                track.first = unit
            gone = max(track.gone, int(track.suspect))
            track.gone, track.suspect = 0, False
            track.units.append((track.payload.format, getattr(track.payload, "reorder", 0), unit, gone))
            track.bytes += len(unit.data)

    def _align(self, now: float, *, over: bool = False) -> None:
        """Puts all tracks on one time line, as soon as it is known or must be guessed."""
        there = [track for track in self._tracks if track.first is not None]
        if not there or self._since is None:
            return
        waited = over or now - self._since >= HOLD or sum(track.bytes for track in there) > _MOST_HELD
        walls = [track.wall(track.first.time) for track in there if track.first is not None]
        if all(wall is not None for wall in walls) and (waited or len(there) == len(self._tracks)):
            begin = min(wall for wall in walls if wall is not None)
            spread = max(wall for wall in walls if wall is not None) - begin
            if spread < _SANE:
                for track, wall in zip(there, walls, strict=True):
                    assert wall is not None and track.first is not None
                    track.zero = track.first.time - round((wall - begin) * track.encoding.clock)
                self._aligned = self._by_reports = True
                return
            if not waited:
                return
            self.remark("the sender's reports put sound and picture more than 5 s apart: they were not believed")
        if not waited:
            return
        self._aligned = True
        apart = [
            Fraction(track.first.time - track.order.extended(track.begins), track.encoding.clock)
            for track in there
            if track.first is not None and track.begins is not None
        ]
        if len(apart) == len(there) and all(-0.1 <= a < 10 for a in apart) and max(apart) - min(apart) < _SANE:
            for track, distance in zip(there, apart, strict=True):
                assert track.first is not None
                track.zero = track.first.time - round((distance - min(apart)) * track.encoding.clock)
            return
        begin_at = min(track.first.arrival for track in there if track.first is not None)
        for track in there:
            assert track.first is not None
            track.zero = track.first.time - round((track.first.arrival - begin_at) * track.encoding.clock)
        if len(there) > 1:
            self.remark("the camera sends no sender reports: sound against picture is judged by when packets arrived")

    def _late(self, track: _Track) -> None:
        """A track that begins when the others run."""
        other = next((t for t in self._tracks if t.zero is not None and t.first is not None), None)
        assert track.first is not None
        if other is None or other.first is None or other.zero is None:
            track.zero = track.first.time
            return
        mine, its = track.wall(track.first.time), other.wall(other.zero)
        passed = (
            mine - its
            if mine is not None and its is not None and abs(mine - its) < 86400
            else Fraction(track.first.arrival - other.first.arrival)
            + Fraction(other.first.time - other.zero, other.encoding.clock)
        )
        track.zero = track.first.time - round(passed * track.encoding.clock)

    def _compare(self, now: float) -> None:
        """What reports say of sound against picture, against what was assumed."""
        pair = {track.track: track for track in self._tracks if track.zero is not None and track.report is not None}
        if len(pair) < 2:
            return
        picture, sound = pair["video"], pair["audio"]
        assert picture.zero is not None and sound.zero is not None
        begins = sound.wall(sound.zero), picture.wall(picture.zero)
        if begins[0] is None or begins[1] is None:
            return
        off = float(begins[0] - begins[1])  # s by which the sound really belongs later
        self._offsets.append((now, off))
        recent = [value for _, value in list(self._offsets)[-_OFFSETS:]]
        off = statistics.median(recent)
        if not self._by_reports and len(recent) >= 3 and abs(off) > _AGREED:
            self._by_reports = True
            self.remark(f"reports that came later put the sound {off * 1000:+.0f} ms from where it was assumed")
        self._compared += 1
        if self._offsets[-1][0] - self._offsets[0][0] >= _DRIFT_AFTER and self._compared % _OFFSETS == 0:
            usual = statistics.median(value for _, value in self._offsets)
            # a step of the sender's clock falls between two reports, and puts one of them far off
            kept = [(at, value) for at, value in self._offsets if abs(value - usual) < _STEP]
            if len(kept) >= 2 * _OFFSETS:
                sound.drift = statistics.linear_regression(*zip(*kept, strict=True)).slope * -1e6
        if self._follow and len(recent) == _OFFSETS and abs(off) > 0.002 and abs(off) < _SANE:
            step = max(-_GAIN * 5, min(_GAIN * 5, Fraction(off)))
            sound.zero -= round(step * sound.encoding.clock)
            self._offsets = deque(((at, value - float(step)) for at, value in self._offsets), maxlen=_REMEMBERED)

    # Events

    def take(self, now: float, *, over: bool = False) -> list[MediaEvent]:
        """What there is to tell since the last time; ``over``: no packet comes any more."""
        for track in self._tracks:
            for ordered in track.order.flush() if over else track.order.due(now):
                self._give(track, ordered)
            if over:
                self._hold(track, track.payload.end())
        # behind the goodbye of one source may come another
        self.ended = self.goodbye and all(now - track.goodbye >= _FAREWELL for track in self._tracks if track.goodbye is not None)
        if not self._aligned:
            self._align(now, over=over)
            if self._aligned:
                self._tell_formats()
        if self._aligned:
            for track in self._tracks:
                self._release(track)
        for track in self._tracks:
            self._tell_delivery(track)
        out, self._events = self._events, []
        return out

    def _tell_formats(self) -> None:
        """Of all tracks at once, so that it is known what there is when the first samples come."""
        for track in self._tracks:
            if track.units:
                track.told = track.units[0][0]
                self._events.append(track.told)

    def _release(self, track: _Track) -> None:
        if not track.units:
            return
        if track.zero is None:
            if len(self._tracks) == 1 and track.first is not None:
                track.zero = track.first.time
            else:
                self._late(track)
        assert track.zero is not None
        waiting, track.units, track.bytes = track.units, [], 0
        begin = 0
        for n, (format, _, _, gone) in enumerate(waiting):
            if format is not track.told or gone:
                self._emit(track, waiting[begin:n])
                begin = n
            if gone:
                self._events.append(Damaged(track.track, gone))
            if format is not track.told:
                self._events.append(format)
                track.told = format
        self._emit(track, waiting[begin:])

    def _emit(self, track: _Track, units: list[tuple[Format, int, PayloadUnit, int]]) -> None:
        if not units:
            return
        zero = track.zero or 0
        pts = [unit.time - zero for _, _, unit, _ in units]
        if track.track == "video":
            dts = [track.decoding.next(time, depth) for time, (_, depth, _, _) in zip(pts, units, strict=True)]
        else:
            dts = pts
        self._events.append(
            batch(
                track.track, [unit.data for _, _, unit, _ in units], dts, pts, [unit.key for _, _, unit, _ in units],
                [unit.arrival for _, _, unit, _ in units],
            )
        )  # fmt: skip

    def _tell_delivery(self, track: _Track) -> None:
        c = track.order.counts
        now = (c.received, c.lost, c.doubled)
        if now != track.delivered and c.received:
            track.delivered = now
            jitter = c.most_jitter / track.encoding.clock
            self._events.append(
                Delivery(track.track, c.received, c.lost, c.late, c.doubled, c.reordered, jitter, track.drift)
            )
