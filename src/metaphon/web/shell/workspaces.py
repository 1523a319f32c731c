"""The workspaces there are: from these the tabs, the addresses and the installed parts are made."""

from typing import NamedTuple


class Workspace(NamedTuple):
    """A folder of `metaphon.web`, reached at /mix/N/NAME/."""

    name: str
    title: str
    tab: bool = True
    views: tuple[tuple[str, str], ...] = ()  # by name in the address, with its title

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
    Workspace("flow", "Flow", views=(("map", "Map"), ("table", "Table"))),
    Workspace(
        "coherence",
        "Coherence",
        views=(
            ("pairs", "Pairs"),
            ("phase", "Phase"),
            ("equaliser", "Equaliser"),
            ("width", "Width"),
            ("fold", "Fold-down"),
        ),
    ),
    Workspace(
        "reverb", "Reverb", views=(("tail", "Space"), ("sends", "Sends"), ("build", "Build"))
    ),
    Workspace("field", "Field", views=(("chart", "Chart"), ("space", "Perspective"))),
    Workspace(
        "listen",
        "Listen",
        views=(
            ("meters", "Meters"),
            ("compare", "Compare"),
            ("headphones", "Headphones"),
            ("loudspeakers", "Loudspeakers"),
        ),
    ),
    Workspace(
        "handover",
        "Handover",
        views=(
            ("formats", "Formats"),
            ("alternatives", "Alternatives"),
            ("receiver", "Receiver"),
            ("translation", "Translation"),
            ("platform", "Platform"),
        ),
    ),
    Workspace("findings", "Findings", tab=False),
    Workspace("lanes", "Lanes", tab=False),
    Workspace("together", "Together", tab=False),
)


def workspace_named(name: str) -> Workspace:
    """A workspace by its name; KeyError where there is none."""
    return {workspace.name: workspace for workspace in WORKSPACES}[name]
