"""What the house wants: the fixed rules over the catalogs at hand."""
