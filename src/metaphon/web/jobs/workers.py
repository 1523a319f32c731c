"""The workers that are alive, on whatever machines."""

from django.db import connection

# one of each kind at a time, so that none waits behind a long one of another
QUEUES = ("renders", "prints", "reports", "spaces", "surveys", "arrivals", "events", "upkeep")

# where the other side may take its time
AT_ONCE = {"events": 4}

_ALIVE_S = 15.0  # a worker says that it is every few seconds
_ALIVE = """
    select count(*) from procrastinate_workers
    where last_heartbeat > now() - make_interval(secs => %s)
"""


def served_queues() -> int:
    """How many queues are served, each by each worker that is alive."""
    with connection.cursor() as cursor:
        cursor.execute(_ALIVE, [_ALIVE_S])
        return int(cursor.fetchone()[0])


def workers_alive() -> int:
    """How many workers are alive."""
    return -(-served_queues() // len(QUEUES))
