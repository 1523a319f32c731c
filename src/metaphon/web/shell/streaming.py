"""Files sent in pieces: the server never holds more than one of them, however long the file is."""

import re
import zipfile
from asyncio import to_thread
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from typing import IO, cast

from django.db.models.fields.files import FieldFile
from django.http import HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.utils.http import content_disposition_header

_PIECE = 1 << 18


def send_file(
    request: HttpRequest, file: FieldFile, content_type: str, name: str
) -> HttpResponseBase:
    """Send a stored file to keep under a name, or the byte range of it that is asked for (RFC 9110,
    section 14).
    """
    size = file.size
    first, last, status = 0, size - 1, 200
    asked = re.fullmatch(r"bytes=([0-9]{0,18})-([0-9]{0,18})", request.headers.get("Range", ""))
    if asked and asked[0] != "bytes=-":
        first = int(asked[1]) if asked[1] else max(size - int(asked[2]), 0)
        last = min(int(asked[2]), size - 1) if asked[1] and asked[2] else size - 1
        if first > last:
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
        status = 206
    response = StreamingHttpResponse(
        _pieces(file.open("rb"), first, last), status=status, content_type=content_type
    )
    response["Accept-Ranges"] = "bytes"
    response["Content-Length"] = str(last - first + 1)
    if status == 206:
        response["Content-Range"] = f"bytes {first}-{last}/{size}"
    response["Content-Disposition"] = content_disposition_header(True, name) or "attachment"
    return response


async def _pieces(file: IO[bytes], first: int, last: int) -> AsyncIterator[bytes]:
    try:
        file.seek(first)
        left = last - first + 1
        while left > 0 and (piece := await to_thread(file.read, min(_PIECE, left))):
            left -= len(piece)
            yield piece
    finally:
        file.close()


class _Passing:
    """A file that is only written to, and gives away what was written."""

    def __init__(self) -> None:
        self._written: list[bytes] = []

    def write(self, data: bytes, /) -> int:
        self._written.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        """Nothing is held back."""

    def taken(self) -> bytes:
        found, self._written = b"".join(self._written), []
        return found


def send_package(
    files: Sequence[tuple[str, FieldFile]], texts: Mapping[str, str], name: str
) -> StreamingHttpResponse:
    """Send stored files, and texts, as one ZIP under a name; it is made while it is sent."""
    response = StreamingHttpResponse(_in_turn(files, texts), content_type="application/zip")
    response["Content-Disposition"] = content_disposition_header(True, name) or "attachment"
    return response


async def _in_turn(
    files: Sequence[tuple[str, FieldFile]], texts: Mapping[str, str]
) -> AsyncIterator[bytes]:
    pieces = _zipped(files, texts)
    while (piece := await to_thread(next, pieces, None)) is not None:
        yield piece


def _zipped(files: Sequence[tuple[str, FieldFile]], texts: Mapping[str, str]) -> Iterator[bytes]:
    passing = _Passing()
    with zipfile.ZipFile(
        cast(IO[bytes], passing), "w", zipfile.ZIP_STORED
    ) as package:  # sound does not shrink
        for name, held in files:
            with (
                held.open("rb") as file,
                package.open(zipfile.ZipInfo(name), "w", force_zip64=True) as entry,
            ):
                while piece := file.read(_PIECE):
                    entry.write(piece)
                    yield passing.taken()
        for name, text in texts.items():
            package.writestr(zipfile.ZipInfo(name), text)
    yield passing.taken()
