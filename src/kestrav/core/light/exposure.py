"""What light shows as white."""

from __future__ import annotations

import math

FULL = 500.0  # lx at which a white surface is shown white; a common brightness of work places (EN 12464-1, from memory)
WHITE = FULL / math.pi  # cd/m² of that surface, which reflects evenly to all sides (Lambert's law)
METERED = 0.85  # of white, that a level white surface shows as where the picture is exposed for the light; common practice, no source
