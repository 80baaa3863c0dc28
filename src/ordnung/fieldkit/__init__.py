"""The field kit: the ``ordnung`` command. The same core without the web part, and without Django."""
