"""Coded picture and sound: headers as dataclasses, and the writer of the test signal."""
