"""Ingest sheets, server addresses, and references to logins and keys."""
