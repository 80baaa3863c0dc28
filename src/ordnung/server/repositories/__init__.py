"""Repositories and their packing lists."""
