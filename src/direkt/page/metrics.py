"""The board as figures for a scraper, in OpenMetrics; labels name feeds, devices and destinations, never an address or a key."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator

from prometheus_client import CollectorRegistry, start_http_server
from prometheus_client.metrics_core import CounterMetricFamily, GaugeMetricFamily, Metric, StateSetMetricFamily
from prometheus_client.registry import Collector

from direkt.errors import NoAnswer, os_words
from direkt.watch.board import Board, FeedRow
from direkt.watch.tracker import FeedState

_LABELS = ("rig", "feed", "device", "destination", "role")
_NOT_SENT = (FeedState.OFF, FeedState.STOPPED)
_EVENT_LABELS = ("rig", "event", "destination")


class Figures(Collector):
    """Makes the figures of the latest board, when somebody asks."""

    def __init__(self, board: Callable[[], Board | None]) -> None:
        self._board = board

    def collect(self) -> Iterator[Metric]:
        """All figures."""
        board = self._board()
        if board is None:
            return
        yield from self._feeds(board)
        yield from self._rest(board)

    def _feeds(self, board: Board) -> Iterator[Metric]:
        def gauge(name: str, words: str, value: Callable[[FeedRow], float | None]) -> GaugeMetricFamily:
            made = GaugeMetricFamily(name, words, labels=_LABELS)
            for row in board.feeds:
                found = value(row)
                if found is not None:
                    made.add_metric(self._labels(board, row), found)
            return made

        def counter(name: str, words: str, value: Callable[[FeedRow], float]) -> CounterMetricFamily:
            made = CounterMetricFamily(name, words, labels=_LABELS)
            for row in board.feeds:
                made.add_metric(self._labels(board, row), value(row))
            return made

        yield gauge("direkt_feed_up", "Whether the feed is on.", lambda row: float(row.state is FeedState.ON))
        yield gauge("direkt_feed_wanted", "Whether the feed is meant to be on.", lambda row: float(row.wanted))
        states = StateSetMetricFamily("direkt_feed_state", "How the feed stands.", labels=_LABELS)
        for row in board.feeds:
            states.add_metric(self._labels(board, row), {s.value.replace(" ", "_"): s is row.state for s in FeedState})
        yield states
        yield gauge(
            "direkt_feed_bitrate_bits_per_second",
            "What goes out, as far as its device or this machine counts it; 0 where it is off.",
            lambda row: row.kbit_s * 1000 if row.kbit_s is not None else 0.0 if row.state in _NOT_SENT else None,
        )
        yield gauge(
            "direkt_feed_frame_rate_fps",
            "Pictures a second, as measured here or reported by the ingest.",
            lambda row: _number(row, "video.frame_rate"),
        )
        yield gauge(
            "direkt_feed_keyframe_interval_seconds", "The longest keyframe interval.",
            lambda row: _number(row, "video.keyframe_interval.max") or _number(row, "video.keyframe_interval.median"),
        )  # fmt: skip
        yield gauge(
            "direkt_feed_ingest_arriving",
            "Whether the ingest receives the feed, where it reports that.",
            lambda row: None if row.arriving is None else float(row.arriving),
        )
        yield counter(
            "direkt_feed_gaps", "Times in which the ingest had nothing, of the present push.", lambda row: row.gaps
        )
        yield counter("direkt_feed_drops", "Drops since the watch began.", lambda row: row.drops)
        yield counter(
            "direkt_feed_missing_seconds", "Time dropped since the watch began.", lambda row: round(row.missing, 1)
        )
        yield counter(
            "direkt_feed_restarts", "Restarts of push and device since the watch began.", lambda row: row.restarts
        )

    @staticmethod
    def _labels(board: Board, row: FeedRow) -> tuple[str, ...]:
        return (board.rig, row.name, row.device, row.destination, row.role)

    @staticmethod
    def _rest(board: Board) -> Iterator[Metric]:
        heat = GaugeMetricFamily("direkt_device_temperature_celsius", "Of the device.", labels=("rig", "device"))
        answers = GaugeMetricFamily("direkt_device_answers", "Whether the device answers.", labels=("rig", "device"))
        for device in dict.fromkeys(row.device for row in board.feeds):
            if device in board.devices or any(row.device == device and not row.answers for row in board.feeds):
                answers.add_metric((board.rig, device), float(device in board.devices))
            temperature = board.devices.get(device)
            if temperature is not None:
                heat.add_metric((board.rig, device), temperature)
        yield heat
        yield answers
        on_air = GaugeMetricFamily("direkt_event_on_air", "Whether the event is on air.", labels=_EVENT_LABELS)
        viewers = GaugeMetricFamily(
            "direkt_event_viewers", "Viewers, where the platform reports them.", labels=_EVENT_LABELS
        )
        left = GaugeMetricFamily(
            "direkt_event_limit_seconds", "Until the platform ends the push.", labels=_EVENT_LABELS
        )
        for event in board.events:
            labels = (board.rig, event.name, event.destination)
            on_air.add_metric(labels, float(event.on_air))
            if event.viewers is not None:
                viewers.add_metric(labels, event.viewers)
            if event.limit is not None:
                left.add_metric(labels, round(event.limit))
        yield on_air
        yield viewers
        yield left
        warned = GaugeMetricFamily(
            "direkt_warnings", "Things that are not as they should be.", labels=("rig", "kind", "weight")
        )
        counts: dict[tuple[str, str], int] = {}
        for w in board.warnings:
            counts[w.kind, w.weight] = counts.get((w.kind, w.weight), 0) + 1
        for (kind, weight), count in counts.items():
            warned.add_metric((board.rig, kind, weight), count)
        for weight in ("advise", "fail"):  # a figure that is absent is not 0
            if not any(w == weight for _, w in counts):
                warned.add_metric((board.rig, "any", weight), 0)
        yield warned
        yield GaugeMetricFamily("direkt_board_timestamp_seconds", "When the board was made, seconds since 1970.", value=board.at)
        yield GaugeMetricFamily("direkt_watch_late_seconds", "By how much the watch was late at the worst, in the last half minute.", value=board.late)
        yield GaugeMetricFamily("direkt_look_age_seconds", "Since the device that was asked longest ago.", value=board.oldest)


def _number(row: FeedRow, name: str) -> float | None:
    value = row.values.get(name)
    return float(value) if isinstance(value, int | float) else None


@contextlib.contextmanager
def serve(board: Callable[[], Board | None], host: str, port: int) -> Iterator[int]:
    """The figures at a port (0: any that is free), which it gives. Raises NoAnswer."""
    registry = CollectorRegistry(auto_describe=False)
    registry.register(Figures(board))
    try:
        server, thread = start_http_server(port, host, registry)
    except (OSError, OverflowError) as error:
        words = os_words(error) if isinstance(error, OSError) else str(error)
        raise NoAnswer(
            f"the port {port} at {host} for figures cannot be opened: {words}; choose another with --metrics"
        ) from None
    try:
        yield int(server.server_port)
    finally:
        server.shutdown()
        server.server_close()
        thread.join(3.0)
