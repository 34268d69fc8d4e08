"""Codecs: the table of them, their headers and readers, and the writers of the test signal."""
