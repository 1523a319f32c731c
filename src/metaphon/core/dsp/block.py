"""What sound is made of here: blocks of samples."""

import numpy as np
from numpy.typing import NDArray

Block = NDArray[np.float32]  # (channels, frames), contiguous
