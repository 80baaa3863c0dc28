"""Commands of the site that concern runs."""
