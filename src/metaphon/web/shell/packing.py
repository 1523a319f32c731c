"""Pages packed on their way: rows of controls are alike and shrink to a twentieth."""

from django.http import HttpRequest, HttpResponseBase
from django.middleware.gzip import GZipMiddleware


class Packing(GZipMiddleware):
    """Packs whole answers; files that are streamed keep their length and their ranges."""

    def process_response(
        self, request: HttpRequest, response: HttpResponseBase
    ) -> HttpResponseBase:
        return response if response.streaming else super().process_response(request, response)
