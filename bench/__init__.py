"""Speed and memory figures, each a ratio to a baseline from the same run."""
