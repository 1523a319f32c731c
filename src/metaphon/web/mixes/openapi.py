"""What scripts may ask of an installation, told as OpenAPI 3.1: the same schemas as the core's."""

import json
from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET

from metaphon.core.schemas import COMMANDS, MIX, published
from metaphon.web.mixes.events import KINDS

_HERE, _THERE = '"#/$defs/', '"#/components/schemas/'
_MESSAGE = {
    "type": "object",
    "required": ["message"],
    "properties": {"message": {"type": "string", "description": "One sentence."}},
}
_REFUSED = {
    "401": "There is no token, or none that is known.",
    "404": "There is no such mix, or its owner of the token takes no part in it.",
    "405": "The address takes another method.",
}


@login_not_required
@require_GET
def openapi(request: HttpRequest) -> JsonResponse:
    """The description."""
    return JsonResponse(described())


def described() -> dict[str, Any]:
    """The description as plain data."""
    commands, mix = (_with_components(published(one)) for one in (COMMANDS, MIX))
    number = {
        "name": "mix_id",
        "in": "path",
        "required": True,
        "description": "The number in the address of the mix.",
        "schema": {"type": "integer", "minimum": 1},
    }
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Metaphon",
            "version": "1",
            "description": "Mixes read and edited by scripts, as the person whose token they send.",
        },
        "security": [{"token": []}],
        "paths": {
            "/api/mix/{mix_id}": {
                "parameters": [number],
                "get": {
                    "operationId": "readMix",
                    "summary": "The mix as a document, with its revision",
                    "responses": _answers(
                        "The mix; recordings by their names in storage.",
                        {
                            "revision": {"type": "integer"},
                            "may_edit": {"type": "boolean"},
                            "document": {"$ref": "#/components/schemas/MixDocument"},
                        },
                    ),
                },
            },
            "/api/mix/{mix_id}/edits": {
                "parameters": [number],
                "post": {
                    "operationId": "editMix",
                    "summary": "Carry out commands as one step of the history, or none of them",
                    "requestBody": {
                        "required": True,
                        "content": {"application/json": {"schema": _EDITS}},
                    },
                    "responses": _answers(
                        "They are carried out.",
                        {
                            "revision": {"type": "integer"},
                            "edit": {"type": "string", "description": "What the history says."},
                        },
                        {
                            "403": "The person may listen to the mix, not change it.",
                            "409": "Somebody has changed the same since `seen`.",
                            "422": "A command cannot be carried out.",
                        },
                    ),
                },
            },
        },
        "webhooks": {kind: _event(words) for kind, words in KINDS.items()},
        "components": {
            "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}},
            "schemas": {
                **commands.pop("$defs"),
                **mix.pop("$defs"),
                "Commands": _bare(commands),
                "MixDocument": _bare(mix),
                "Refusal": _MESSAGE,
            },
        },
    }


_SEEN = {"type": "integer", "description": "The revision that the commands are made against."}
_EDITS = {
    "allOf": [
        {"$ref": "#/components/schemas/Commands"},
        {"type": "object", "properties": {"seen": _SEEN}},
    ]
}


def _with_components(schema: dict[str, Any]) -> dict[str, Any]:
    """A schema whose parts are looked for among the components."""
    found: dict[str, Any] = json.loads(json.dumps(schema).replace(_HERE, _THERE))
    return found


def _bare(schema: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in schema.items() if name != "$schema"}


def _answers(
    told: str, properties: dict[str, Any], refused: dict[str, str] | None = None
) -> dict[str, Any]:
    good = {"type": "object", "required": [*properties], "properties": properties}
    bad = {"$ref": "#/components/schemas/Refusal"}
    return {
        "200": {"description": told, "content": {"application/json": {"schema": good}}},
        **{
            status: {"description": words, "content": {"application/json": {"schema": bad}}}
            for status, words in {**_REFUSED, **(refused or {})}.items()
        },
    }


def _event(words: str) -> dict[str, Any]:
    """What is sent to an address of somebody's own (Standard Webhooks 1.0)."""
    headers = [
        {"name": name, "in": "header", "required": True, "description": told, "schema": _TEXT}
        for name, told in (
            ("webhook-id", "The same when it is sent again."),
            ("webhook-timestamp", "Seconds since 1970."),
            ("webhook-signature", "v1, and HMAC-SHA256 of id.timestamp.body in base64."),
        )
    ]
    content = {"application/json": {"schema": _MESSAGE_TOLD}}
    return {
        "post": {
            "summary": words,
            "security": [],
            "parameters": headers,
            "requestBody": {"required": True, "content": content},
            "responses": {"2XX": {"description": "It is taken; else it is sent again later."}},
        }
    }


_TEXT = {"type": "string"}
_MESSAGE_TOLD = {
    "type": "object",
    "required": ["type", "timestamp", "data"],
    "properties": {
        "type": _TEXT,
        "timestamp": {"type": "string", "format": "date-time"},
        "data": {
            "type": "object",
            "properties": {"mix": {"type": "integer"}, "title": _TEXT, "url": _TEXT},
        },
    },
}
