"""The workspaces there are: from these the tabs, the addresses and the installed parts are made."""

from typing import NamedTuple


class Workspace(NamedTuple):
    """A folder of `metaphon.web`, reached at /mix/N/NAME/."""

    name: str
    title: str
    tab: bool = True

    @property
    def app(self) -> str:
        return f"metaphon.web.{self.name}"

    @property
    def page(self) -> str:
        return f"{self.name}:show"

    @property
    def style(self) -> str:
        return f"{self.name}/{self.name}.css"


WORKSPACES = (
    Workspace("intake", "Intake"),
    Workspace("flow", "Flow"),
    Workspace("field", "Field"),
    Workspace("listen", "Listen"),
    Workspace("handover", "Handover"),
    Workspace("findings", "Findings", tab=False),
)
