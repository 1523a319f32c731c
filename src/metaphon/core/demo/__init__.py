"""The demonstration: made-up sounds and three mixes, one of them with faults on purpose."""
