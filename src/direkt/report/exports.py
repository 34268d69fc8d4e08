"""A judged stream for other programs: the second-by-second series as CSV, and the findings as JUnit XML for pipelines."""

from __future__ import annotations

from collections.abc import Sequence

from direkt import parameters
from direkt.errors import UnusableInput
from direkt.finding import Finding, Verdict
from direkt.measure.meter import Measurement
from direkt.measure.series import OverTime


def series_csv(measurement: Measurement) -> str:
    """A row for each second (or more, where the stream is long), with the units in the header. Raises UnusableInput without pandas."""
    try:
        import pandas as pd
    except ImportError:
        raise UnusableInput("reports in .csv need pandas: pip install 'direkt[report]'") from None
    columns: dict[str, pd.Series[float]] = {}
    for track, name in ((measurement.video_series, "video"), (measurement.audio_series, "audio")):
        if track is not None:
            columns[f"{name} bitrate (kbit/s)"] = _column(track, track.kbit_s)
    if measurement.video_series is not None:
        columns["keyframes (count)"] = _column(measurement.video_series, measurement.video_series.marks)
    if measurement.levels:
        columns["audio level (dBFS)"] = pd.Series(dict(measurement.levels))
    if measurement.behind:
        late = pd.Series(dict(measurement.behind))
        columns["behind the clock (s)"] = late.groupby(late.index.astype(int).astype(float)).mean()
    frame = pd.DataFrame(columns)
    frame.index.name = "time (s)"
    return str(frame.to_csv(float_format="%.3f"))


def _column(track: OverTime, values: Sequence[float]) -> pd.Series[float]:  # type: ignore[name-defined]  # noqa: F821
    import pandas as pd

    return pd.Series([float(value) for value in values], index=[n * track.width for n in range(len(values))])


def junit(subject: str, against: str, findings: Sequence[Finding], seconds: float, noted: Sequence[str] = ()) -> bytes:
    """A test suite with a case for each finding: what fails is a failure, what is not known is skipped; ``noted`` stands beside them."""
    from lxml import etree

    failures = sum(f.verdict is Verdict.FAIL for f in findings)
    skipped = sum(f.verdict is Verdict.UNSEEN for f in findings)
    suite = etree.Element(
        "testsuite", name=_plain(f"{subject} against {against}"), tests=str(len(findings)), failures=str(failures), skipped=str(skipped), errors="0", time=f"{seconds:.3f}"
    )
    for f in findings:
        case = etree.SubElement(suite, "testcase", classname=_plain(subject), name=f"{f.parameter} ({parameters.find(f.parameter).label})")
        told = _plain(f"{parameters.show_measured(f.parameter, f.sent)}; {f.words}")
        if f.verdict is Verdict.FAIL:
            etree.SubElement(case, "failure", message=told)
        elif f.verdict is Verdict.UNSEEN:
            etree.SubElement(case, "skipped", message=told)
        elif f.verdict is Verdict.ADVISE:
            etree.SubElement(case, "system-out").text = told
    if noted:
        etree.SubElement(suite, "system-out").text = "\n".join(map(_plain, noted))
    root = etree.Element("testsuites")
    root.append(suite)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def _plain(text: str) -> str:
    """Without characters that XML has no place for (XML 1.0, 2.2)."""
    return "".join(c for c in text if c.isprintable())
