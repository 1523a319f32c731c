"""When the next stretch of sound is wanted, and how long it is to be."""

import time
from collections import deque

STRETCH_FRAMES = 2048
SHORT_FRAMES = STRETCH_FRAMES // 2
LONG_FRAMES = 2 * STRETCH_FRAMES
CROWDED_FRAMES = 4 * STRETCH_FRAMES
LEAD_S = 0.09  # how far the sound sent may be ahead of the sound played, at first
LEAST_LEAD_S = 0.02  # and however little of it is used
SPARE_S = 0.01  # of the lead, beyond the most that was used of late
_LEADS_S = {LONG_FRAMES: LEAD_S, CROWDED_FRAMES: 0.2}  # what others' stretches take longer
TRUST_S = 0.5  # how long it goes on by the clock when nothing is reported
_MOST_LEAD_S = 0.5
_WIDER_S = 0.02  # for each gap
_NARROWER_S = 0.008  # for each second in which less was used
_FASTEST_CLOCK = 1.01  # of a listener's machine, against the one here
_REMEMBERED = 20  # seconds, of which it is known how much was used
# what a report that comes later than expected counts for: most often only the report is late
_LATER_S = 0.005
# of real time: where work takes more, stretches are made longer, which costs less; where it takes
# less, shorter, by which an edit is heard sooner
_CROWDED, _ROOMY = 0.25, 0.15


class StreamClock:
    """Keeps the sound sent a lead ahead of the sound played, never further.

    The lead is what was used of it of late, on the way or while the listener's machine was busy,
    and a little more. Between a listener's reports of how much was played the clock tells; a late
    report does not hold the sound up.
    """

    def __init__(self, rate_hz: int) -> None:
        self.lead_s = LEAD_S
        self._used_s = deque[float](maxlen=_REMEMBERED)  # the most of the lead, second by second
        self._used_now_s: float | None = None
        self.crowded = False  # whether many listen on this machine
        self.frames = LONG_FRAMES  # of the next stretch; long until it is known that there is time
        self._rate_hz = rate_hz
        self.begin()

    def begin(self) -> None:
        """From another place on: nothing has been sent or played."""
        self.sent = 0
        self._opened_at = time.monotonic()
        self._reported_at: float | None = None  # None until sound flows
        self._began_at = 0.0  # when it would have begun had it played from then on without a gap

    def played(self, frames: int, gap: bool, least: int | None = None) -> None:
        """Take in that so many frames have been played by now, and whether there was a gap.

        `least` is how few frames the listener had left to play at any moment since the last report,
        None where that is not known.
        """
        now = time.monotonic()
        # no more than was sent, nor than has had time to sound, whatever is reported
        most_s = (now - self._opened_at) * _FASTEST_CLOCK + LEAD_S
        frames = min(frames, self.sent, int(most_s * self._rate_hz))
        began = now - frames / self._rate_hz
        expected = self._reported_at is not None and not gap
        self._began_at = min(began, self._began_at + _LATER_S) if expected else began
        self._reported_at = now
        used_s = None if least is None else self.lead_s - least / self._rate_hz
        if gap:
            self.lead_s = min(self.lead_s + _WIDER_S, _MOST_LEAD_S)
            used_s = self.lead_s - SPARE_S
        if used_s is not None:
            self._used_now_s = max(used_s, self._used_now_s or 0.0)

    def settle(self, load: float) -> None:
        """Take in how much of real time the work took of late, about once a second."""
        if self.crowded:
            self.frames = CROWDED_FRAMES
        elif load > _CROWDED:
            self.frames = min(2 * self.frames, LONG_FRAMES)
        elif load < _ROOMY or self.frames == CROWDED_FRAMES:
            self.frames = max(self.frames // 2, SHORT_FRAMES)
        unknown_s = LEAD_S - SPARE_S
        self._used_s.append(unknown_s if self._used_now_s is None else self._used_now_s)
        self._used_now_s = None
        wanted_s = max(max(self._used_s) + SPARE_S, _LEADS_S.get(self.frames, LEAST_LEAD_S))
        self.lead_s = min(max(self.lead_s - _NARROWER_S, wanted_s), _MOST_LEAD_S)

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
