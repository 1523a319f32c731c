"""The sample rates that sound is taken in at."""

RATES_HZ = (8_000, 384_000)  # from, to
