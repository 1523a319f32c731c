"""From a scene to a plan, and from a plan to samples."""
