"""The watch: looks at devices, at what is carried and at ingests, mends drops, and tells people."""
