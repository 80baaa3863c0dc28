"""JSON Schemas of our own documents."""
