"""What scripts may ask, described: held against the standard and against what is answered."""

from typing import Any

from jsonschema import Draft202012Validator
from openapi_spec_validator import validate

from metaphon.core.edits.registry import COMMANDS
from metaphon.web.mixes.access import new_token
from tests.web.base import WebTest


class Described(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.told: dict[str, Any] = self.client.get("/api/openapi.json").json()

    def schema(self, part: dict[str, Any]) -> Draft202012Validator:
        return Draft202012Validator({**part, "components": self.told["components"]})

    def answer_of(self, path: str, method: str, status: str) -> Draft202012Validator:
        held = self.told["paths"][path][method]["responses"][status]
        return self.schema(held["content"]["application/json"]["schema"])

    def test_it_is_openapi(self) -> None:
        validate(self.told)  # OpenAPI 3.1, by a validator from elsewhere
        named = self.told["components"]["schemas"]
        told = [one.get("properties", {}).get("kind", {}).get("const") for one in named.values()]
        self.assertLessEqual(set(COMMANDS), set(told))

    def test_what_is_answered_is_as_described(self) -> None:
        address = f"/api/mix/{self.mix.pk}"
        headers = {"Authorization": f"Bearer {new_token(self.user, 'test')}"}
        document = self.client.get(address, headers=headers)
        self.answer_of("/api/mix/{mix_id}", "get", "200").validate(document.json())
        path = "/api/mix/{mix_id}/edits"
        for body, status in (
            ({"commands": [{"kind": "rename_mix", "title": "Quay"}], "seen": 0}, "200"),
            ({"commands": [{"kind": "rename_mix"}]}, "422"),
        ):
            answer = self.client.post(
                f"{address}/edits", body, content_type="application/json", headers=headers
            )
            self.assertEqual(str(answer.status_code), status)
            self.answer_of(path, "post", status).validate(answer.json())
            asked = self.told["paths"][path]["post"]["requestBody"]["content"]
            wanted = self.schema(asked["application/json"]["schema"])
            self.assertEqual(wanted.is_valid(body), status == "200")
        refused = self.client.get(address)
        self.answer_of("/api/mix/{mix_id}", "get", "401").validate(refused.json())
