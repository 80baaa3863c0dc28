"""What the house has decided once and for all runs: its zone, its windows, its limits, who has to approve."""
