"""How many requests were answered, how, and how fast, by the name of their address."""

import time

from django.http import HttpRequest, HttpResponse
from prometheus_client import Histogram

from metaphon.web.shell.asked_by import Answer

_answered = Histogram(
    "metaphon_request_seconds",
    "How long requests took, by address and status",
    ("address", "status"),
    buckets=(0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 15.0),
)


def counted(get_response: Answer) -> Answer:
    """Middleware that counts."""

    def answered(request: HttpRequest) -> HttpResponse:
        began = time.perf_counter()
        response = get_response(request)
        match = request.resolver_match
        name = match.view_name if match else "unknown"
        _answered.labels(name, response.status_code).observe(time.perf_counter() - began)
        return response

    return answered
