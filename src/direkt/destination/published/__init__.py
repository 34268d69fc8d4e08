"""Published settings tables, in free words: read into what they say of the stream.

``grid`` cuts a text into tables, ``layout`` gives each cell the heads that it stands under, ``tokens`` cuts a cell into
words of the ``vocabulary``, ``clauses`` makes claims of them, and ``claims`` puts the claims of a whole table together.
"""
