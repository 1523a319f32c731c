"""Arrays in, figures out.

Meters take a programme block by block and hold no more than their sums.
"""
