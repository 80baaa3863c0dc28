"""How far the fleet is from its baseline: folds, lines of releases, the review before a run, files."""
