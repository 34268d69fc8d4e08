"""Simulated gear: small stand-ins that speak the real protocols over real sockets and make real bitstreams."""
