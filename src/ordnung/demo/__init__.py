"""The demo: the scenario's servers, catalogs and people, and the command that starts it all."""
