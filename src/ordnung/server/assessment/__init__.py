"""What the readings come to, judged by the baseline: standings, folds, the effect of a draft. Nothing is kept."""
