"""Cells: ``grid`` cuts a text into tables, ``layout`` and ``tables`` give each cell what it stands under, as a ``statement``."""
