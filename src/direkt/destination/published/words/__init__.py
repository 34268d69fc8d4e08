"""Words: what a published table is written in. ``tokens`` cuts a text by the ``vocabulary``; ``context`` says what a head means."""
