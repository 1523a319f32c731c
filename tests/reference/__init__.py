"""Checks against published sources and general-purpose libraries."""

import sys
from types import ModuleType

# one of those libraries would play sound, and prints that this machine cannot
sys.modules.setdefault("sounddevice", ModuleType("sounddevice"))
