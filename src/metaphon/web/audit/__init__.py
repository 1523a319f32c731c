"""The audit trail: who let whom in, signed in, handed over and downloaded, and from where."""
