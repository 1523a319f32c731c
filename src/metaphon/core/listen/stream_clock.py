"""When the next stretch of sound is wanted, and how long it is to be."""

import time

STRETCH_FRAMES = 2048
SHORT_FRAMES = STRETCH_FRAMES // 2
LONG_FRAMES = 2 * STRETCH_FRAMES
CROWDED_FRAMES = 4 * STRETCH_FRAMES
LEAD_S = 0.09  # how far the sound sent may be ahead of the sound played, at first
LEAST_LEAD_S = 0.045  # and once it has been seen that there is time
_LEADS_S = {LONG_FRAMES: LEAD_S, CROWDED_FRAMES: 0.15}  # what others' stretches take longer
TRUST_S = 0.5  # how long it goes on by the clock when nothing is reported
_MOST_LEAD_S = 0.5
_WIDER_S = 0.02  # for each gap
_NARROWER_S = 0.008  # for each second without
_FORGOTTEN_S = 0.0002  # and so much for a lead at which there was a gap
# what a report that comes later than expected counts for: most often only the report is late
_LATER_S = 0.005
# of real time: where work takes more, stretches are made longer, which costs less; where it takes
# less, shorter, by which an edit is heard sooner
_CROWDED, _ROOMY = 0.25, 0.15


class StreamClock:
    """Keeps the sound sent a lead ahead of the sound played, never further.

    Between a listener's reports of how much was played the clock tells; a late report does not hold
    the sound up.
    """

    def __init__(self, rate_hz: int) -> None:
        self.lead_s = LEAD_S
        self._least_s = LEAST_LEAD_S  # no narrower, as there was a gap not long ago
        self.crowded = False  # whether many listen on this machine
        self.frames = LONG_FRAMES  # of the next stretch; long until it is known that there is time
        self._rate_hz = rate_hz
        self.begin()

    def begin(self) -> None:
        """From another place on: nothing has been sent or played."""
        self.sent = 0
        self._reported_at: float | None = None  # None until sound flows
        self._began_at = 0.0  # when it would have begun had it played from then on without a gap

    def played(self, frames: int, gap: bool) -> None:
        """Take in that so many frames have been played by now, and whether there was a gap.

        It widens the lead.
        """
        now = time.monotonic()
        began = now - frames / self._rate_hz
        expected = self._reported_at is not None and not gap
        self._began_at = min(began, self._began_at + _LATER_S) if expected else began
        self._reported_at = now
        if gap:
            self._least_s = min(self.lead_s + _WIDER_S / 2.0, LEAD_S)
            self.lead_s = min(self.lead_s + _WIDER_S, _MOST_LEAD_S)

    def settle(self, load: float) -> None:
        """Take in how much of real time the work took of late, about once a second."""
        self._least_s = max(self._least_s - _FORGOTTEN_S, LEAST_LEAD_S)
        if self.crowded:
            self.frames = CROWDED_FRAMES
        elif load > _CROWDED:
            self.frames = min(2 * self.frames, LONG_FRAMES)
        elif load < _ROOMY or self.frames == CROWDED_FRAMES:
            self.frames = max(self.frames // 2, SHORT_FRAMES)
        least_s = _LEADS_S.get(self.frames, self._least_s)
        self.lead_s = max(self.lead_s - _NARROWER_S, least_s)

    @property
    def wait_s(self) -> float | None:
        """How long until the next stretch is wanted; None where only a report can tell."""
        over = self.sent / self._rate_hz - self.lead_s
        if self._reported_at is None:
            return 0.0 if over <= 0.0 else None
        now, trusted = time.monotonic(), self._reported_at + TRUST_S
        over -= min(now, trusted) - self._began_at
        if over <= 0.0:
            return 0.0
        return over if now < trusted else None
