"""What is found, written, read back, kept and put back at devices."""
