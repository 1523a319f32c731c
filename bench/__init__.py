"""What the program costs, measured: run by bin/bench, never by the tests."""
