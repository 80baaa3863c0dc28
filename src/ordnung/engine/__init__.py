"""The engine: survey, pack and run as journalled work over ports. It decides nothing and loses nothing."""
