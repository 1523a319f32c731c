"""The strip's own tools: polarity, delay and width."""

from typing import ClassVar, Literal

import numpy as np

from metaphon.core.process.processor import Block, Processor, Running, parameter, switch


class Basics(Processor):
    """Polarity, delay and, for stereo, width."""

    title: ClassVar[str] = "Basics"

    kind: Literal["basics"] = "basics"
    polarity_inverted: bool = switch(False, help="Turn every sample upside down.")
    delay_ms: float = parameter(
        0.0, 0.0, 1000.0, unit="ms", step=0.02, help="Later by this much, to the nearest sample."
    )
    width: float = parameter(
        1.0, 0.0, 2.0, unit="", step=0.01, help="Stereo only: 0 mono, 1 untouched, 2 side doubled."
    )

    def start(self, channels: int, rate_hz: int) -> Running:
        return _Basics(self, channels, rate_hz)

    @property
    def tail_s(self) -> float:
        return self.delay_ms / 1000.0


class _Basics:
    def __init__(self, parameters: Basics, channels: int, rate_hz: int) -> None:
        self._matrix = np.eye(channels, dtype=np.float32)
        if channels == 2:
            # mid/side algebra: the side is scaled by the width, the mid is left alone
            near, far = (1.0 + parameters.width) / 2.0, (1.0 - parameters.width) / 2.0
            self._matrix = np.array([[near, far], [far, near]], dtype=np.float32)
        if parameters.polarity_inverted:
            self._matrix = -self._matrix
        self._untouched = bool(np.array_equal(self._matrix, np.eye(channels)))
        self._held = np.zeros((channels, round(parameters.delay_ms * 1e-3 * rate_hz)), dtype=np.float32)

    def process(self, block: Block) -> Block:
        if not self._untouched:
            block = self._matrix @ block
        late = self._held.shape[1]
        if late:
            joined = np.concatenate([self._held, block], axis=1)
            block, self._held = joined[:, : block.shape[1]], joined[:, block.shape[1] :]
        return block
