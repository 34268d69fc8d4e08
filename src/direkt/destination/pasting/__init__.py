"""What people paste, taken apart: words and their labels, then addresses, then keys."""
