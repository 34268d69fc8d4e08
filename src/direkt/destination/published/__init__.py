"""Published settings tables, in free words: read into what they say of the stream.

In three: ``words`` knows what words mean, ``cells`` cuts a text into cells with all that they stand under, and ``meaning``
makes claims of a cell's words, and rules of the claims. Imports run from the later to the earlier.
"""
