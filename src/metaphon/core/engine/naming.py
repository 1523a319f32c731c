"""What files of a handover are called."""

import re
from dataclasses import dataclass

from metaphon.core.document.handover import FileForm
from metaphon.core.engine.render import Output

_MOST_TITLE_BYTES = 100


@dataclass(frozen=True)
class Names:
    """What names are made of: the mix's title, its revision, and the day as YYYY-MM-DD."""

    title: str
    revision: int = 0
    date: str = ""

    def of(self, output: Output, form: FileForm) -> str:
        """The name of a result, by the pattern of its form."""
        made = form.name.format(
            title=safe_title(self.title),
            stem=_part(output),
            target=output.target.word,
            revision=self.revision,
            date=self.date,
        )
        suffix = "wav" if output.contents else form.container
        return f"{_plain(made) or 'mix'}.{suffix}"


def _part(output: Output) -> str:
    if output.alternative:
        return f"_{output.alternative.id}"
    return f"_stem_{output.stem}" if output.stem else ""


def safe_title(title: str) -> str:
    """A mix's title as the beginning of a file name."""
    # file systems count bytes: what follows the title needs room too
    return _plain(title).encode()[:_MOST_TITLE_BYTES].decode(errors="ignore") or "mix"


def _plain(text: str) -> str:
    return re.sub(r"[^\w.+-]", "", text.strip().replace(" ", "_")).strip(".")
