"""Running Metaphon on one machine: its database cluster, its environment, its processes."""
