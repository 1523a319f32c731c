"""One module a finding: what it looks for, why it matters, and the command that mends it."""
