"""Code points of colour (ITU-T H.273), which all video codecs share: numbers to the names that H.273 gives them."""

# ITU-T H.273, Table 2
PRIMARIES = {
    1: "bt.709", 4: "bt.470-m", 5: "bt.470-bg", 6: "bt.601", 7: "st-240", 8: "film", 9: "bt.2020", 10: "st-428-1",
    11: "rp-431-2", 12: "eg-432-1", 22: "ebu-3213-e",
}  # fmt: skip
# ITU-T H.273, Table 3
TRANSFER = {
    1: "bt.709", 4: "bt.470-m", 5: "bt.470-bg", 6: "bt.601", 7: "st-240", 8: "linear", 9: "log-100", 10: "log-316",
    11: "iec-61966-2-4", 12: "bt.1361", 13: "iec-61966-2-1", 14: "bt.2020-10", 15: "bt.2020-12", 16: "bt.2100-pq",
    17: "st-428-1", 18: "bt.2100-hlg",
}  # fmt: skip
# ITU-T H.273, Table 4
MATRIX = {
    0: "identity", 1: "bt.709", 4: "fcc-73-682", 5: "bt.470-bg", 6: "bt.601", 7: "st-240", 8: "ycgco", 9: "bt.2020-ncl",
    10: "bt.2020-cl", 11: "st-2085", 12: "chromaticity-ncl", 13: "chromaticity-cl", 14: "ictcp",
}  # fmt: skip


def describe(
    primaries: int | None, transfer: int | None, matrix: int | None, full_range: bool | None
) -> dict[str, int | float | str]:
    """The code points as parameters; what is None or has no name is left out."""
    found: dict[str, int | float | str] = {}
    if full_range is not None:
        found["video.colour.range"] = "full" if full_range else "limited"
    for name, number, names in (
        ("primaries", primaries, PRIMARIES), ("transfer", transfer, TRANSFER), ("matrix", matrix, MATRIX),
    ):  # fmt: skip
        if number in names:
            found[f"video.colour.{name}"] = names[number]
    return found
