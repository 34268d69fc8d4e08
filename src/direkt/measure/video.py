"""Measures the pictures of an H.264 stream, and times and bytes of any other.

Each access unit is walked by its NAL units' lengths; of a slice one byte is read. A keyframe is an IDR picture,
whatever the container claims. One picture costs O(its NAL units).
"""

from __future__ import annotations

import heapq
import itertools
import struct
from collections.abc import Callable

from direkt.bitstream import h264
from direkt.bitstream.bits import BitstreamError
from direkt.container.media import CodecConfig, Sample
from direkt.measure.statistics import Bitrate, Clock, Intervals
from direkt.parameters import Values, reduce_ratio

_NAL = struct.Struct(">IB").unpack_from
_BATCH = 1024  # samples whose times and sizes are counted together
_REORDER = 17  # pictures: more than any H.264 decoder may hold back (A.3.1)

# Tables E-3 to E-5
_PRIMARIES = {1: "bt709", 4: "bt470-m", 5: "bt601-625", 6: "bt601-525", 7: "st240", 8: "film", 9: "bt2020",
              10: "st428", 11: "rp431", 12: "eg432", 22: "ebu3213"}  # fmt: skip
_TRANSFER = {1: "bt709", 4: "gamma22", 5: "gamma28", 6: "bt601", 7: "st240", 8: "linear", 9: "log100", 10: "log316",
             11: "xvycc", 12: "bt1361", 13: "srgb", 14: "bt2020-10", 15: "bt2020-12", 16: "pq", 17: "st428",
             18: "hlg"}  # fmt: skip
_MATRIX = {0: "rgb", 1: "bt709", 4: "fcc", 5: "bt601", 6: "bt601", 7: "st240", 8: "ycgco", 9: "bt2020",
           10: "bt2020-constant", 11: "st2085", 12: "primaries", 13: "primaries-constant", 14: "ictcp"}  # fmt: skip


class VideoMeter:
    """Takes a video track's configuration and samples; ``remark`` is told what does not fit."""

    def __init__(self, time_step: float, remark: Callable[[str], None]) -> None:
        self._time_step = time_step
        self._remark = remark
        self.codec: str | None = None
        self._length_size = 4
        self._sps: dict[int, bytes] = {}
        self._pps: dict[int, bytes] = {}
        self.sps: h264.Sps | None = None
        self.pps: h264.Pps | None = None
        self.clock = Clock()
        self._begin()

    def _begin(self) -> None:
        """Forgets all that was counted: the stream's shape has changed."""
        clock = Clock()
        clock.backward, clock.jumps, clock.first = self.clock.backward, self.clock.jumps, self.clock.first
        self.clock = clock
        self.bitrate = Bitrate()
        self.keyframes = 0
        self.marked = 0  # samples the container calls keyframes
        self.marked_wrong = 0
        self.damaged = 0
        self.intervals = Intervals()
        self.key_intervals = Intervals()
        self._key_time: float | None = None
        self._run_start = 0.0
        self._longest_open = 0.0
        self._in_a_row = 0
        self._b_frames = 0
        self._recovery_points = 0
        self._fields = self._frames = 0
        self._held: list[float] = []
        self._shown: float | None = None
        self._reordered = False
        self._latest = 0.0
        # times and sizes that are not counted yet; the places of IDR pictures among them
        self._dts: list[float] = []
        self._pts: list[float] = []
        self._sizes: list[int] = []
        self._idr: list[int] = []

    # Configuration

    def configure(self, config: CodecConfig) -> None:
        """A decoder configuration record. Raises BitstreamError for one that cannot be read."""
        self.fold()
        if self.codec not in (None, config.codec):
            self._remark(f"the video codec changes from {self.codec} to {config.codec}: what follows is measured anew")
            self._begin()
        self.codec = config.codec
        if config.codec != "h264":
            self.sps = self.pps = None
            return
        record = h264.parse_avc_config(config.data)
        self._length_size = record.length_size
        for nal in (*record.sps, *record.pps):
            self._parameter_set(nal)
        if record.sps:
            claimed = (record.profile_idc, record.level_idc)
            sps = h264.parse_sps(record.sps[0])
            if claimed != (sps.profile_idc, sps.level_idc):
                self._remark(
                    f"the decoder configuration says profile {claimed[0]} level {claimed[1] / 10:.1f}, "
                    f"the stream's own header says profile {sps.profile_idc} level {sps.level_idc / 10:.1f}"
                )

    def _parameter_set(self, nal: bytes) -> None:
        if nal[0] & 31 == h264.SPS:
            sps = h264.parse_sps(nal)
            if self._sps.get(sps.id) == nal:
                return
            if self.sps is not None and sps.id == self.sps.id and (self.clock.count or self._dts):
                self.fold()
                self._remark(
                    f"the picture changes from {self.sps.width}x{self.sps.height} {self.sps.profile} to "
                    f"{sps.width}x{sps.height} {sps.profile} after {self.clock.last:.1f} s: what follows is measured anew"
                )
                self._begin()
            self._sps[sps.id] = nal
            if self.sps is None or self.sps.id == sps.id:
                self.sps = sps
        else:
            pps = h264.parse_pps(nal)
            if self._pps.get(pps.id) == nal:
                return
            self._pps[pps.id] = nal
            if self.pps is None or self.pps.id == pps.id:
                self.pps = pps
                if self.sps is not None and self.sps.id != pps.sps_id and pps.sps_id in self._sps:
                    self.sps = h264.parse_sps(self._sps[pps.sps_id])

    # Samples

    def add(self, sample: Sample) -> None:
        """One picture, or the part of it that the container holds in one sample."""
        _, dts, pts, data, marked = sample
        if self.codec == "h264":
            if self._walk(data):
                self.keyframes += 1
                self._idr.append(len(self._dts))
                if marked:
                    self.marked += 1
            elif marked:
                self.marked += 1
                self.marked_wrong += 1
        times = self._dts
        times.append(dts)
        self._pts.append(pts)
        self._sizes.append(len(data))
        if len(times) >= _BATCH:
            self.fold()

    def fold(self) -> None:
        """Counts the times and sizes that wait."""
        dts, pts, sizes, idr = self._dts, self._pts, self._sizes, self._idr
        if not dts:
            return
        self._dts, self._pts, self._sizes, self._idr = [], [], [], []
        begins = self.clock.add_all(dts, pts)
        edges = [*begins, len(dts)]
        if edges[0]:
            self._stretch(dts[: edges[0]], pts[: edges[0]], sizes[: edges[0]], [n for n in idr if n < edges[0]])
        for begin, end in itertools.pairwise(edges):
            self._new_run(pts[begin])
            keys = [n - begin for n in idr if begin <= n < end]
            self._stretch(dts[begin:end], pts[begin:end], sizes[begin:end], keys)

    def _stretch(self, dts: list[float], pts: list[float], sizes: list[int], keys: list[int]) -> None:
        """Samples of one unbroken run."""
        self.bitrate.add_all(dts, sizes)
        if self._reordered or pts != dts:
            for time in pts:
                self._reorder(time)
        else:
            if self._shown is not None:
                self.intervals.add(pts[0] - self._shown)
            self.intervals.add_all([b - a for a, b in itertools.pairwise(pts)])
            self._shown = pts[-1]
        for n in keys:
            if self._key_time is not None:
                self.key_intervals.add(pts[n] - self._key_time)
            else:
                self._longest_open = max(self._longest_open, pts[n] - self._run_start)
            self._key_time = pts[n]
        self._latest = max(self._latest, max(pts))

    def _new_run(self, pts: float) -> None:
        if self.clock.runs > 1 or self._key_time is not None:
            self._longest_open = max(self._longest_open, self._open_stretch())
        self._drain()
        self.bitrate.new_stretch()
        self._key_time = self._shown = None
        self._run_start = self._latest = pts

    def interrupt(self) -> None:
        """The stream stops here and may come back with other times."""
        self.fold()
        self.clock.interrupt()

    def _open_stretch(self) -> float:
        """How long ago (s) the last keyframe was, with nothing known of the next."""
        if not self.clock.count:
            return 0.0
        since = self._run_start if self._key_time is None else self._key_time
        step = 1 / self.frame_rate if self.frame_rate else 0.0
        return self._latest - since + step

    def _reorder(self, pts: float) -> None:
        """Puts presentation times in order, so that intervals are those a viewer sees."""
        self._reordered = True
        heapq.heappush(self._held, pts)
        if len(self._held) > _REORDER:
            self._show(heapq.heappop(self._held))

    def _show(self, pts: float) -> None:
        if self._shown is not None:
            self.intervals.add(max(0.0, pts - self._shown))
        self._shown = pts

    def _drain(self) -> None:
        while self._held:
            self._show(heapq.heappop(self._held))

    def _walk(self, data: h264.Buffer) -> bool:
        """Reads one access unit's NAL units; True for an IDR picture."""
        at, end = 0, len(data)
        idr = False
        first_kind = -1
        bipredicted = False
        sei = False
        if self._length_size != 4:
            return self._walk_slowly(data)
        while at + 5 < end:
            size, head = _NAL(data, at)
            following = at + 4 + size
            if following > end or not size:
                self._hurt()
                return idr
            kind = head & 31
            if kind == 1 or kind == 5:
                if kind == 5:
                    idr = True
                byte = data[at + 5]
                slice_kind = h264.TYPE_BY_BYTE[byte] if byte & 0x80 else h264.slice_type(data[at + 5 : at + 21])
                if first_kind < 0:
                    first_kind = slice_kind
                    if self.sps is not None and not self.sps.frame_mbs_only:
                        self._scan(data)
                if slice_kind == h264.B:
                    bipredicted = True
            elif kind == 6:
                sei = True
            elif kind == 7 or kind == 8:
                self._inner_set(bytes(data[at + 4 : following]))
            at = following
        if at < end:
            self._hurt()
        if bipredicted:
            self._in_a_row += 1
            if self._in_a_row > self._b_frames:
                self._b_frames = self._in_a_row
        elif first_kind >= 0:
            self._in_a_row = 0
            if first_kind == h264.I and not idr and sei:
                self._recovery(data)
        return idr

    def _walk_slowly(self, data: h264.Buffer) -> bool:
        """The same for streams with lengths of one or two bytes: brings them to four."""
        parts = []
        try:
            for at, size in h264.split_length_prefixed(data, self._length_size):
                parts += [size.to_bytes(4, "big"), bytes(data[at : at + size])]
        except BitstreamError:
            self._hurt()
        size, self._length_size = self._length_size, 4
        try:
            return self._walk(b"".join(parts))
        finally:
            self._length_size = size

    def _inner_set(self, nal: bytes) -> None:
        try:
            self._parameter_set(nal)
        except BitstreamError:
            self._hurt()

    def _hurt(self) -> None:
        self.damaged += 1

    def _scan(self, data: h264.Buffer) -> None:
        """Counts a picture as whole or as fields (7.4.3, Table D-1)."""
        assert self.sps is not None
        structure = None
        field = False
        try:
            for at, size in h264.split_length_prefixed(data):
                kind = data[at] & 31
                if kind == h264.SEI and self.sps.pic_struct_present:
                    for message, payload in h264.parse_sei(data[at : at + size]):
                        if message == 1:
                            structure = h264.pic_struct(payload, self.sps)
                elif kind in (h264.SLICE, h264.IDR):
                    field = h264.parse_slice(data[at : at + min(size, 40)], self.sps).field
                    break
        except BitstreamError:
            self._hurt()
            return
        if field or (1 <= structure <= 6 if structure is not None else self.sps.mb_adaptive):
            self._fields += 1
        else:
            self._frames += 1

    def _recovery(self, data: h264.Buffer) -> None:
        """Counts a recovery point (D.1.8): a place to join that is no IDR picture."""
        for at, size in h264.split_length_prefixed(data):
            if data[at] & 31 == h264.SEI and any(kind == 6 for kind, _ in h264.parse_sei(data[at : at + size])):
                self._recovery_points += 1
                return

    # Values

    @property
    def frame_rate(self) -> float | None:
        """Pictures a second."""
        return self.clock.rate(self._time_step, self.sps.frame_rate if self.sps else None)

    @property
    def seconds(self) -> float:
        """How long the pictures last, the last one included."""
        rate = self.frame_rate
        return self.clock.span + self.clock.runs / rate if rate else self.clock.span

    def values(self, notes: dict[str, str]) -> Values:
        """All that is known so far; ``notes`` takes what a value alone does not say."""
        self.fold()
        out: Values = {}
        if self.codec is None:
            return out
        out["video.codec"] = self.codec
        if self.sps is not None:
            self._shape(self.sps, out)
        if self.pps is not None:
            out["video.entropy"] = "cabac" if self.pps.cabac else "cavlc"
        self._times(out, notes)
        if self.codec == "h264" and self.clock.count:
            out["video.b_frames"] = self._b_frames
            if self.sps is not None:
                if self.sps.frame_mbs_only or (self._frames and not self._fields):
                    out["video.scan"] = "progressive"
                elif self._fields:
                    out["video.scan"] = "mixed" if self._frames else "interlaced"
            if self._recovery_points:
                out["video.gop_closed"] = "no"
            elif self.keyframes:
                out["video.gop_closed"] = "yes"
            if not self.keyframes:
                points = f", {self._recovery_points} recovery points" if self._recovery_points else ""
                notes["video.keyframe_interval.max"] = f"no keyframe (IDR picture) at all{points}"
        return out

    @staticmethod
    def _shape(sps: h264.Sps, out: Values) -> None:
        out |= {
            "video.profile": sps.profile, "video.level": sps.level, "video.size": f"{sps.width}x{sps.height}",
            "video.width": sps.width, "video.height": sps.height,
            "video.chroma": ("4:0:0", "4:2:0", "4:2:2", "4:4:4")[sps.chroma_format],
            "video.bit_depth": sps.bit_depth, "video.reference_frames": sps.reference_frames,
        }  # fmt: skip
        across, down = sps.sample_aspect or (1, 1)
        if sps.sample_aspect:
            out["video.sample_aspect"] = reduce_ratio(across, down)
        out["video.display_aspect"] = reduce_ratio(sps.width * across, sps.height * down)
        if sps.full_range is not None:
            out["video.colour.range"] = "full" if sps.full_range else "limited"
        for name, number, words in (
            ("video.colour.primaries", sps.primaries, _PRIMARIES),
            ("video.colour.transfer", sps.transfer, _TRANSFER),
            ("video.colour.matrix", sps.matrix, _MATRIX),
        ):
            if number in words:
                out[name] = words[number]

    def _times(self, out: Values, notes: dict[str, str]) -> None:
        rate = self.frame_rate
        if rate is not None:
            out["video.frame_rate"] = round(rate, 3)
        if len(self.intervals) > 1 and rate:
            out["video.frame_jitter"] = round(self.intervals.strays(1 / rate, 0.99) * 1000, 2)
        keys = self.key_intervals
        if len(keys):
            out["video.keyframe_interval.min"] = round(keys.shortest, 3)
            out["video.keyframe_interval.median"] = round(keys.quantile(0.5), 3)
            out["video.keyframe_interval.max"] = round(keys.longest, 3)
        open_stretch = max(self._longest_open, self._open_stretch()) if self.codec == "h264" else 0.0
        if self.keyframes and rate and open_stretch > (keys.longest + 1 / rate if len(keys) else 1 / rate):
            out["video.keyframe_interval.max"] = round(open_stretch, 3)
            notes["video.keyframe_interval.max"] = (
                f"at least: {open_stretch:.2f} s without a further keyframe, and what comes next was not seen"
            )
        seconds = self.seconds
        if seconds > 0 and rate:
            out["video.bitrate.mean"] = round(self.bitrate.bytes * 8 / seconds / 1000, 1)
            if seconds >= 1:
                out["video.bitrate.peak"] = round(self.bitrate.peak * 8 / 1000, 1)
        control = self._rate_control()
        if control:
            out["video.rate_control"] = control
            hrd = self.sps.nal_hrd or self.sps.vcl_hrd if self.sps else None
            if hrd is not None and hrd.cbr != (control == "cbr"):
                notes["video.rate_control"] = (
                    f"the stream's header promises {'CBR' if hrd.cbr else 'VBR'} of {hrd.bitrate // 1000} kbit/s"
                )

    def _rate_control(self) -> str | None:
        """CBR when each window of a keyframe interval (at least 1 s) stays within 10 % of the mean; 3 are needed."""
        usual = self.key_intervals.quantile(0.5) if len(self.key_intervals) else 1.0
        windows = self.bitrate.windows(min(10.0, max(1.0, float(-(-usual // 1)))))
        if len(windows) < 3:
            return None
        mean = sum(windows) / len(windows)
        if not mean:
            return None
        outside = sum(abs(size - mean) > 0.1 * mean for size in windows)
        return "cbr" if outside <= len(windows) // 50 else "vbr"
