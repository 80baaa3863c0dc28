"""What the house wants: revisions of rules and of what each model follows, drafts, and their effect."""
