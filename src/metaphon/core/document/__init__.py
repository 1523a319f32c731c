"""What a mix is: tracks, buses, sends, placement, automation and targets, as frozen data."""
