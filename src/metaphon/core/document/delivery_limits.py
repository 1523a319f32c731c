"""What a kind of delivery can hold. One row a delivery."""

from pydantic import Field

from metaphon.core.document.part import Layout, Name, Part

MOST_OBJECTS = 10_000  # that a limit may say


class DeliveryLimits(Part):
    """The limits of a kind of delivery; None is no limit.

    `title` is what people call it. `bed` is the one bed it has. `upper_half`: nothing below the
    ears. `sphere_only`: nothing within the loudspeaker sphere.
    """

    title: Name = Field(min_length=1, max_length=80)
    most_objects: int | None = Field(None, ge=0, le=MOST_OBJECTS)
    bed: Layout | None = None
    upper_half: bool = False
    extent: bool = True
    sphere_only: bool = False
    scenes: bool = True


NO_LIMITS = DeliveryLimits(title="No limits")
OBJECTS_ON_A_BED = DeliveryLimits(
    title="Many objects, fixed bed", most_objects=100, bed="4+7+0", scenes=False
)
# all made up for practice; people keep their own beside them
DELIVERY_LIMITS = (
    NO_LIMITS,
    DeliveryLimits(title="Loudspeaker channels only", most_objects=0, bed="4+7+0", scenes=False),
    DeliveryLimits(title="Upper half only", most_objects=32, upper_half=True),
    OBJECTS_ON_A_BED,
    DeliveryLimits(
        title="Few objects, no extent",
        most_objects=10,
        bed="0+5+0",
        extent=False,
        sphere_only=True,
        scenes=False,
    ),
)
