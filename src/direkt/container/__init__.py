"""Containers: FLV and MP4, read into samples; FLV and MP4 written."""
