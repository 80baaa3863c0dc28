"""Runs, their servers and the tapes."""
