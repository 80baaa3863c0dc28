"""Bytes to values and back. Readers are strict and say where an error lies; writers are deterministic."""
