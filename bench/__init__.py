"""Speed as ratios, never as bare seconds."""
