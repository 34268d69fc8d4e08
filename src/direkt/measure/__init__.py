"""Samples to measured values, live and from files."""
