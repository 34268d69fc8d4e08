"""Streams that run in threads of their own: fetched, received, carried, made here; measured by whoever polls."""
