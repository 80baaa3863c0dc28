"""Security advisories as they were brought in, against this fleet."""
