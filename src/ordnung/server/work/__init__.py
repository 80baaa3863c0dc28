"""Work under way and the events the browser follows."""
