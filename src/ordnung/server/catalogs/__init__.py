"""Issues of catalogs as they were brought in."""
