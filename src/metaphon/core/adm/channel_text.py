"""One object's way as text: the channel format of the Audio Definition Model (ITU-R BS.2076-2)."""

from xml.etree import ElementTree

import numpy as np
from numpy.typing import NDArray

from metaphon.core.adm.model import Element, Path
from metaphon.core.adm.reading import children, parsed, path_of
from metaphon.core.adm.writing import object_blocks
from metaphon.core.errors import InputError
from metaphon.core.foreign import reads_foreign


def written(
    name: str,
    times_s: NDArray[np.float64],
    values: NDArray[np.float64],
    in_room: bool,
    end_s: float,
) -> str:
    """A path, (times) and (6, times) in the order of `FORMS`, with straight blocks.

    The last position is held until `end_s`.
    """
    root = ElementTree.Element(
        "audioChannelFormat",
        audioChannelFormatID="AC_00031001",
        audioChannelFormatName=name,
        typeDefinition="Objects",
        typeLabel="0003",
    )
    still = np.zeros(len(times_s))
    path = Path(in_room, times_s, values, still, still, still + 1.0)
    root.extend(object_blocks(Element(name, "object", (0,)), path, "00031001", end_s, None))
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode", xml_declaration=True) + "\n"


@reads_foreign
def read(text: str) -> tuple[bool, NDArray[np.float64], NDArray[np.float64]]:
    """The path in the first channel format of an XML text.

    Whether it is in the room, times and (6, times) values. Raises InputError for text that is not
    XML, holds no blocks of an object, or mixes both forms.
    """
    root = parsed(text)
    holder = next((e for e in root.iter() if children(e, "audioBlockFormat")), None)
    if holder is None:
        raise InputError(
            "There is no audioBlockFormat in this text; bring the channel format of an object."
        )
    path = path_of(holder)
    return path.in_room, path.times_s, path.values
