"""What the server for listening says to who does not come to listen."""

import json
from typing import Any

from metaphon.web.listen.consumer import capacity


async def about(scope: Any, receive: Any, send: Any) -> None:
    """Answer /health with how many play now, anything else with one sentence."""
    well = scope["path"] == "/health" and scope["method"] in ("GET", "HEAD")
    told = json.dumps({"listeners": capacity.playing}) if well else "Sound is given here alone.\n"
    headers = [
        (b"content-type", b"application/json" if well else b"text/plain"),
        (b"content-length", str(len(told)).encode()),
    ]
    status = 200 if well else 404
    await send({"type": "http.response.start", "status": status, "headers": headers})
    body = b"" if scope["method"] == "HEAD" else told.encode()
    await send({"type": "http.response.body", "body": body})
