"""The web server: remembers and shows. Views are thin over the core and the engine."""
