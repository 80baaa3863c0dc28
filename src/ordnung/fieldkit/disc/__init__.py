"""What runs on a disc that boots by itself: finds the controller, brings the server level, says when nothing is left.

It runs on the small Linux that ``boot/`` builds, as root, with nothing else beside it. The server's drives are never
written to, not even mounted.
"""
