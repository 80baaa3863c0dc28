"""Argon2 as the site uses it, at the least cost: what it costs is its purpose, and no test's."""

from __future__ import annotations

from django.contrib.auth.hashers import Argon2PasswordHasher


class QuickArgon2(Argon2PasswordHasher):
    time_cost, memory_cost, parallelism = 1, 8, 1
