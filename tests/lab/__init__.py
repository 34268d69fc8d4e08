"""A platform, encoders and an ingest of the tests' own, which share no code with the simulated gear; and what is true there."""
