"""The pure core: values in, values out. No clock, no network, no database, no framework."""
