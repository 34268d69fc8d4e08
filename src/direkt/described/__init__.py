"""Interfaces that a file describes: places, words, units and requests, for devices and platforms alike."""
