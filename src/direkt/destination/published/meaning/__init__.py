"""Meaning: ``clauses`` and ``cell_meaning`` make claims of a cell's words, ``claims`` makes rules and steps of all claims of a table."""
