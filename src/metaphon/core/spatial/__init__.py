"""Directions, loudspeaker layouts, panning, ambisonics and measured heads."""
