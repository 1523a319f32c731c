"""Metaphon: every format from one mix, every claim measured."""
