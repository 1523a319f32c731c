"""The guide, which lies in the package, inside the application: a page a task, with its picture."""

import re
from functools import cache
from importlib.resources import files
from importlib.resources.abc import Traversable
from typing import NamedTuple

from django.http import FileResponse, Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString, mark_safe
from django.views.decorators.cache import cache_control
from markdown import markdown

from metaphon.web.shell import controls

_DOCS = files("metaphon") / "docs"
_NAME = re.compile(r"[0-9]-([a-z-]+)\.md")
_PICTURE = re.compile(r'src="\.\./screenshots/([a-z-]+)\.png"')


class Page(NamedTuple):
    """A page: its name in the address, its title, and what it says."""

    name: str
    title: str
    text: SafeString


@cache
def pages() -> dict[str, Page]:
    """All pages by name, in the order in which people work."""
    held = sorted((_DOCS / "guide").iterdir(), key=lambda file: file.name)
    found = [(match[1], file) for file in held if (match := _NAME.fullmatch(file.name))]
    return {name: _read(name, file) for name, file in found}


def _read(name: str, path: Traversable) -> Page:
    title, _, text = path.read_text(encoding="utf-8").partition("\n")
    html = _PICTURE.sub(lambda found: f'src="{_address(found[1])}"', markdown(text))
    return Page(name, title.removeprefix("# "), mark_safe(html))  # of this project alone


def _address(name: str) -> str:
    return reverse("guide_picture", args=[name])


def guide(request: HttpRequest, name: str = "") -> HttpResponse:
    """One page of the guide, the first where none is named."""
    if not name:
        return redirect("guide_page", next(iter(pages())))
    if name not in pages():
        raise Http404
    return render(request, "shell/guide.html", {"page": pages()[name], "pages": pages().values()})


@cache_control(private=True, max_age=3600)
def picture(request: HttpRequest, name: str) -> FileResponse:
    """A picture of the guide."""
    path = _DOCS / "screenshots" / f"{name}.png"
    if not re.fullmatch(r"[a-z-]+", name) or not path.is_file():
        raise Http404
    return FileResponse(path.open("rb"), content_type="image/png")


@cache_control(private=True, max_age=3600)
def helps(request: HttpRequest) -> JsonResponse:
    """One line on each value outside of chains; controls of processors say their own."""
    return JsonResponse(controls.helps())
