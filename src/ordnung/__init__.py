"""Ordnung keeps the firmware of rack servers in order."""
