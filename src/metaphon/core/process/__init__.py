"""Processors, one module each. A module dropped in here is picked up everywhere.

Document, chain and screen.
"""
