"""Findings: what will go wrong with a mix, before the listener finds out. One small rule each."""
