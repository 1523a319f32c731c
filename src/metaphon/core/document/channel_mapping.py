"""How sound of one format enters a bus or bed of another: panned, converted, encoded or decoded."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.mix import PROGRAMME, Bus, Strip, Track
from metaphon.core.document.targets import Target, bus_format, target_named
from metaphon.core.errors import InputError
from metaphon.core.spatial.ambisonics import channels_of, encode, order_of
from metaphon.core.spatial.decoding import decode_matrix
from metaphon.core.spatial.downmix import PUBLISHED, Shares, conversion
from metaphon.core.spatial.layouts import Layout, layout_for_channels, layout_named
from metaphon.core.spatial.panning import constant_power
from metaphon.core.spatial.recording_layout import RecordedAs, recorded_as


def format_of(strip: Strip, channels: int) -> Target:
    """The format of a strip with this many channels; InputError names the strip.

    A bus has a layout. A track's recording is a scene where it is placed as one; else it is what
    its layout says, where that has as many channels. Where nothing says so it is taken for the bed
    that it is placed in, or for what so many channels are most often.
    """
    if isinstance(strip, Bus):
        return bus_format(strip.layout)
    try:
        if strip.placement.mode == "scene" and channels > 1:
            return target_named(f"scene{order_of(channels)}")
        told = told_layout(strip, channels)
        return target_named((told.layout if told else _likely(strip, channels)).name)
    except InputError as error:
        raise InputError(f"{strip.name}: {error}") from None


def told_layout(strip: Strip, channels: int) -> RecordedAs | None:
    """What a track says that the channels of its recording are; None where it does not fit."""
    if isinstance(strip, Track) and strip.layout:
        told = recorded_as(strip.layout)
        if len(told.order) == channels:
            return told
    return None


def _likely(strip: Strip, channels: int) -> Layout:
    bed = layout_named(strip.placement.layout)
    is_bed = strip.placement.mode == "bed" and channels > 2
    return bed if is_bed and bed.channels == channels else layout_for_channels(channels)


def angles_used(strip: Strip, channels: int, buses: Mapping[str, Bus]) -> tuple[str, ...]:
    """Which angles say where a strip stands: as an object, in its bed, its bus and its sends.

    Besides objects only mono does, and above or below only where there are loudspeakers to do it.
    """
    if strip.output == PROGRAMME and strip.placement.mode == "object":
        return ("azimuth_deg", "elevation_deg")
    if channels != 1 or not is_panned(format_of(strip, channels)):
        return ()
    fed = [strip.output or "", *(send.bus for send in strip.sends)]
    aims = [bus_format(buses[one].layout) for one in fed if one in buses]
    if strip.output == PROGRAMME and strip.placement.mode == "bed":
        aims.append(target_named(strip.placement.layout))
    found = {"azimuth_deg": bool(aims), "elevation_deg": any(aim.has_heights for aim in aims)}
    return tuple(name for name, used in found.items() if used)


def mapping_gains(
    source: Target,
    aim: Target,
    azimuth_deg: NDArray[np.float64],
    elevation_deg: NDArray[np.float64],
    shares: Shares = PUBLISHED,
) -> NDArray[np.float64]:
    """The gains, (times, aim channels, source channels), for a source that stands at these angles.

    Only mono is placed by the angles, and no LFE. Layouts convert by `conversion` at these shares,
    scenes are decoded (AllRAD) and loudspeakers encoded where they stand, without the LFE.
    `turned_gains` places wider ones.
    """
    if is_panned(source):
        if aim.layout:
            return constant_power(azimuth_deg, aim.layout, elevation_deg)[:, :, None]
        assert aim.order is not None
        return encode(azimuth_deg, elevation_deg, aim.order)[:, :, None]
    fixed = _fixed(source, aim, shares)
    return np.broadcast_to(fixed, (len(azimuth_deg), aim.channels, source.channels))


def is_panned(source: Target) -> bool:
    """Whether sound of a format stands where the angles of its strip say: mono that is no LFE."""
    return source.channels == 1 and not (source.layout and source.layout.is_lfe[0])


def turned_gains(source: Target, aim: Target, azimuth_deg: float) -> NDArray[np.float64]:
    """The gains, (aim channels, source channels).

    With every loudspeaker of the source turned to the left by an angle.

    A stereo source turned by 0 into stereo stays as it is. The LFE goes to an LFE or nowhere; a
    scene is not turned.
    """
    if source.layout is None:
        return np.array(_fixed(source, aim, PUBLISHED))
    azimuth, elevation = np.array(source.layout.angles_deg).T
    gains = np.empty((aim.channels, source.channels))
    for channel, low in enumerate(source.layout.is_lfe):
        if low:
            gains[:, channel] = aim.layout.is_lfe if aim.layout else 0.0
        else:
            where = np.array([azimuth_deg + azimuth[channel]])
            gains[:, channel] = mapping_gains(
                target_named("0+1+0"), aim, where, elevation[[channel]]
            )[0, :, 0]
    return gains


def _fixed(source: Target, aim: Target, shares: Shares) -> NDArray[np.float64]:
    if source.order is not None:
        if aim.layout:
            return decode_matrix(source.order, aim.layout)
        assert aim.order is not None
        return np.eye(channels_of(aim.order), channels_of(source.order))
    assert source.layout is not None
    if aim.layout:
        return conversion(source.layout.name, aim.layout.name, shares)
    assert aim.order is not None
    return loudspeakers_encoded(source.layout, aim.order)


def loudspeakers_encoded(layout: Layout, order: int) -> NDArray[np.float64]:
    """The gains, (scene channels, loudspeakers), of loudspeakers as plane waves.

    LFE is left out.
    """
    azimuth, elevation = np.array(layout.angles_deg).T
    result: NDArray[np.float64] = encode(azimuth, elevation, order).T * ~np.array(layout.is_lfe)
    return result


def describe_mapping(source: Target, aim: Target, shares: Shares = PUBLISHED) -> str:
    """What happens on the way in a few words; empty where every channel passes as it is."""
    if source.name == aim.name:
        return ""
    if is_panned(source):
        return "panned" if aim.layout else "encoded"
    if source.order is not None and aim.order is not None:
        return f"cut to order {aim.order}" if aim.order < source.order else ""
    if source.order is not None:
        return f"decoded to {aim.title}"
    if aim.order is not None:
        return "encoded" + (", without LFE" if lost_channels(source, aim, shares) else "")
    folds = aim.channels < source.channels
    return (
        ("folded down to " if folds else "set in ")
        + aim.title
        + (", without LFE" if lost_channels(source, aim, shares) else "")
    )


def lost_channels(source: Target, aim: Target, shares: Shares = PUBLISHED) -> tuple[str, ...]:
    """The labels of the source's channels of which nothing arrives."""
    if is_panned(source):
        return ()
    return tuple(
        label
        for label, gains in zip(source.channel_labels, _fixed(source, aim, shares).T, strict=True)
        if not gains.any()
    )
