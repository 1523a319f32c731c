"""Processors, one module each. A module dropped in here is picked up everywhere: document, chain and screen."""
