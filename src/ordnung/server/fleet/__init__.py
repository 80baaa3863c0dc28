"""Servers, groups and readings."""
