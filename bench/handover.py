"""What a handover costs: five formats of the demo, alone and with the stems of every track.

The demo has grown: the 45 files that were asked to be made at 5 x real time are those of eight
tracks and the mix.
"""

import shutil
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from metaphon.core.demo.mixes import write_demo
from metaphon.core.document.handover import Handover
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.files.mixdoc import read

_FIVE = ("0+2+0", "0+5+0", "4+7+0", "binaural", "scene3")


def handover() -> Iterator[str]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        mix = read(write_demo(folder / "demo")[0])
        stems = Handover(targets=_FIVE, stems={"tracks": _FIVE})
        for number, (title, asked, runs, wanted) in enumerate(
            (
                ("five formats", Handover(targets=_FIVE), None, ""),
                ("five formats and ADM", Handover(targets=_FIVE, adm=True), None, ""),
                ("five formats with the stems of eight tracks", stems, 9, " (asked: 5)"),
                ("five formats with the stems of all tracks", stems, None, ""),
            )
        ):
            began = time.perf_counter()
            results, speed = render_to_files(
                runs_of(mix, asked)[:runs], folder / str(number), asked, Names(mix.title)
            )
            took = time.perf_counter() - began
            shutil.rmtree(folder / str(number))
            yield f"{title}: {len(results)} files in {took:.0f} s, {speed:.2f} x real time{wanted}"
