"""Who may do what: rights, commands by address and method, and the question that every request is asked."""
