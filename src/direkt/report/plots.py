"""The plots of a report, as SVG in one style: bitrate with the sheet's band, spacing of keyframes, audio bitrate, how late the stream came.

Matplotlib is read only when a plot is drawn. Lines differ by shape as well as by colour.
"""

from __future__ import annotations

import io
import itertools
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from direkt.errors import UnusableInput
from direkt.finding import Finding
from direkt.measure.meter import Measurement
from direkt.measure.series import OverTime
from direkt.report.strip import limits

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_INK, _BAND, _OFF, _GRID = "#1d3d5c", "#d6e6d8", "#b01818", "#dddddd"
_STYLE: dict[str, object] = {
    "font.family": "DejaVu Sans", "font.size": 8, "axes.spines.top": False, "axes.spines.right": False, "axes.edgecolor": "#444444", "axes.titlesize": 8.5,
    "axes.titleweight": "bold", "axes.titlelocation": "left", "axes.grid": True, "grid.color": _GRID, "grid.linewidth": 0.5, "svg.fonttype": "none",
    "svg.hashsalt": "direkt", "lines.linewidth": 1.1,
}  # fmt: skip
_LATE = 0.25  # s that are shown at the least
WIDTH, HEIGHT = 7.1, 1.35  # inches of one plot


def drawn(measurement: Measurement, findings: Sequence[Finding]) -> list[tuple[str, str]]:
    """Title and SVG of each plot for which something was measured. Raises UnusableInput without Matplotlib."""
    return [(title, _svg(figure)) for title, figure in _figures(measurement, findings)]


def pictures(measurement: Measurement, findings: Sequence[Finding]) -> list[tuple[str, bytes]]:
    """The same as PNG. Raises UnusableInput without Matplotlib."""
    out = []
    for title, figure in _figures(measurement, findings):
        made = io.BytesIO()
        figure.savefig(made, format="png", dpi=200, metadata={"Software": None})
        out.append((title, made.getvalue()))
    return out


def _figures(measurement: Measurement, findings: Sequence[Finding]) -> list[tuple[str, Figure]]:
    try:
        import matplotlib as mpl
        from matplotlib.figure import Figure
    except ImportError:
        raise UnusableInput("reports with plots need Matplotlib: pip install 'direkt[report]'") from None
    out = []
    with mpl.rc_context(_STYLE):  # type: ignore[arg-type]
        for title, draw in _plots(measurement, findings):
            figure = Figure(figsize=(WIDTH, HEIGHT))
            draw(figure.add_axes((0.075, 0.27, 0.91, 0.58)))  # one time scale below the other
            out.append((title, figure))
    return out


def _plots(measurement: Measurement, findings: Sequence[Finding]) -> Iterator[tuple[str, _Draw]]:
    video, audio = measurement.video_series, measurement.audio_series
    if video is not None and len(video.kbit_s) > 1:
        yield "Video bitrate by the second", _Bitrate(video, "video bitrate, kbit/s", limits(findings, "video.bitrate.mean"))
    if video is not None and len(video.times) > 1:
        yield "Time from one keyframe to the next", _Keyframes(video, limits(findings, "video.keyframe_interval.max"))
    if audio is not None and len(audio.kbit_s) > 1:
        yield "Audio bitrate by the second", _Bitrate(audio, "audio bitrate, kbit/s", limits(findings, "audio.bitrate.mean"))
    if len(measurement.levels) > 1:
        yield "How loud the sound is", _Level(measurement.levels)
    if video is not None and len(video.kbit_s) > 2:
        yield "What a buffer at the mean bitrate holds", _Buffer(video)
    if len(measurement.behind) > 2:
        yield "How late the stream came", _Behind(measurement.behind)


class _Draw:
    def __call__(self, axes: Axes) -> None:
        raise NotImplementedError


class _Bitrate(_Draw):
    def __init__(self, track: OverTime, title: str, band: tuple[float | None, float | None]) -> None:
        self.track, self.title, self.band = track, title, band

    def __call__(self, axes: Axes) -> None:
        edges = [*(n * self.track.width for n in range(len(self.track.kbit_s))), self.track.seconds]
        _band(axes, self.band)
        axes.stairs(self.track.kbit_s, edges, color=_INK)
        _ends(axes, self.title, self.track.seconds, max([*self.track.kbit_s, self.band[1] or 0]))


class _Keyframes(_Draw):
    def __init__(self, track: OverTime, band: tuple[float | None, float | None]) -> None:
        self.track, self.band = track, band

    def __call__(self, axes: Axes) -> None:
        times = self.track.times
        gaps = [b - a for a, b in itertools.pairwise(times)]
        _band(axes, (0.0, self.band[1]) if self.band[1] is not None else (None, None))
        axes.plot(times[1:], gaps, marker="o", markersize=3, linestyle="none", color=_INK)
        most = self.band[1]
        late = [(at, gap) for at, gap in zip(times[1:], gaps, strict=True) if most is not None and gap > most + 0.05]
        axes.plot([at for at, _ in late], [gap for _, gap in late], marker="x", markersize=6, linestyle="none", color=_OFF)
        _ends(axes, "s since the keyframe before", self.track.seconds, max([*gaps, most or 0]))


class _Level(_Draw):
    def __init__(self, places: Sequence[tuple[float, float]]) -> None:
        self.places = places

    def __call__(self, axes: Axes) -> None:
        axes.plot([at for at, _ in self.places], [level for _, level in self.places], color=_INK, marker="." if len(self.places) < 60 else "")
        axes.set_title("audio level, dBFS")
        axes.set_xlim(0, max(at for at, _ in self.places) or 1)
        axes.set_ylim(-90, 0)
        axes.locator_params(axis="y", nbins=4)
        axes.set_xlabel("s", labelpad=1)


class _Buffer(_Draw):
    """By the second, so that what rises and falls within one does not show; video.buffer is exact."""

    def __init__(self, track: OverTime) -> None:
        self.track = track

    def __call__(self, axes: Axes) -> None:
        filled = fullness(self.track)
        axes.plot([(n + 1) * self.track.width for n in range(len(filled))], filled, color=_INK)
        _ends(axes, "buffer at the mean bitrate, s", self.track.seconds, max(0.5, *filled))


def fullness(track: OverTime) -> list[float]:
    """s at the mean bitrate that a buffer holds at the end of each column, which takes what comes and gives out evenly."""
    whole = track.kbit_s[:-1] or track.kbit_s
    mean = sum(whole) / len(whole)
    out, held = [], 0.0
    for rate in whole if mean else ():
        held = max(0.0, held + (rate - mean) * track.width / mean)
        out.append(held)
    return out or [0.0]


class _Behind(_Draw):
    def __init__(self, places: Sequence[tuple[float, float]]) -> None:
        self.places = places

    def __call__(self, axes: Axes) -> None:
        axes.plot([at for at, _ in self.places], [late for _, late in self.places], color=_INK)
        axes.axhline(0, color="#444444", linewidth=0.6)
        axes.set_title("s behind the clock (arrival against media time)")
        axes.set_xlim(0, max(at for at, _ in self.places) or 1)
        most = max(_LATE, *(abs(late) for _, late in self.places)) * 1.12
        axes.set_ylim(-most, most)
        axes.set_xlabel("s", labelpad=1)


def _band(axes: Axes, band: tuple[float | None, float | None]) -> None:
    low, high = band
    if high is not None:
        axes.axhspan(low or 0.0, high, color=_BAND, linewidth=0)
        axes.axhline(high, color=_OFF, linewidth=0.8, linestyle="--")
    if low:
        axes.axhline(low, color=_OFF, linewidth=0.8, linestyle=":")


def _ends(axes: Axes, title: str, seconds: float, most: float) -> None:
    axes.set_title(title)
    axes.set_xlim(0, seconds or 1)
    axes.set_ylim(0, most * 1.12 or 1)
    axes.locator_params(axis="y", nbins=4)
    axes.set_xlabel("s", labelpad=1)


def _svg(figure: Figure) -> str:
    """The figure as an element: without what only stands in front of a file of its own, and without a date."""
    out = io.StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None, "Format": None, "Type": None})
    text = out.getvalue()
    return text[text.index("<svg") :]
