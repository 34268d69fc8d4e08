"""What to set on a device so that its stream conforms, and why."""
