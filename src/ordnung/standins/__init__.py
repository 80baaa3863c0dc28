"""Simulated hardware that ships with Ordnung: honest adversaries that enforce their own rules."""
