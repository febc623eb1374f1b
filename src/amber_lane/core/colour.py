"""How different two colours look: sRGB to CIELAB (D65, 2 degrees), and the CIEDE2000 difference."""

from __future__ import annotations

import numpy as np

from .money import Floats

# IEC 61966-2-1, and the white of D65.
_TO_XYZ = np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]])
_WHITE = np.array([0.95047, 1.0, 1.08883])
_E, _K = 216 / 24389, 24389 / 27


def lab(rgb: Floats) -> Floats:
    """sRGB values of shape (…, 3), 0 to 255, as L*, a*, b*.

    >>> [round(float(one), 2) for one in lab(np.array([255.0, 0.0, 0.0]))]
    [53.24, 80.09, 67.2]
    """
    part = np.asarray(rgb, dtype=np.float64) / 255.0
    linear = np.where(part <= 0.04045, part / 12.92, ((part + 0.055) / 1.055) ** 2.4)
    ratio = linear @ _TO_XYZ.T / _WHITE
    f = np.where(ratio > _E, np.cbrt(ratio), (_K * ratio + 16) / 116)
    x, y, z = f[..., 0], f[..., 1], f[..., 2]
    return np.stack([116 * y - 16, 500 * (x - y), 200 * (y - z)], axis=-1)


def difference(one: Floats, other: Floats) -> Floats:
    """CIEDE2000 between L*a*b* values of shapes (…, 3) that fit each other.

    >>> round(float(difference(np.array([50.0, 2.6772, -79.7751]), np.array([50.0, 0.0, -82.7485]))), 4)
    2.0425
    """
    l1, a1, b1 = (one[..., n] for n in range(3))
    l2, a2, b2 = (other[..., n] for n in range(3))
    mean = (np.hypot(a1, b1) + np.hypot(a2, b2)) / 2
    g = 0.5 * (1 - np.sqrt(mean**7 / (mean**7 + 25.0**7)))
    a1, a2 = (1 + g) * a1, (1 + g) * a2
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, a1)) % 360, np.degrees(np.arctan2(b2, a2)) % 360
    grey = c1 * c2 == 0
    turn = h2 - h1
    turn = np.where(grey, 0.0, np.where(turn > 180, turn - 360, np.where(turn < -180, turn + 360, turn)))
    dl, dc = l2 - l1, c2 - c1
    dh = 2 * np.sqrt(c1 * c2) * np.sin(np.radians(turn / 2))
    both = h1 + h2
    apart = np.abs(h1 - h2) > 180
    hue = np.where(grey, both, np.where(~apart, both / 2, np.where(both < 360, (both + 360) / 2, (both - 360) / 2)))
    light, chroma = (l1 + l2) / 2, (c1 + c2) / 2
    t = (
        1
        - 0.17 * np.cos(np.radians(hue - 30))
        + 0.24 * np.cos(np.radians(2 * hue))
        + 0.32 * np.cos(np.radians(3 * hue + 6))
        - 0.20 * np.cos(np.radians(4 * hue - 63))
    )
    sl = 1 + 0.015 * (light - 50) ** 2 / np.sqrt(20 + (light - 50) ** 2)
    sc, sh = 1 + 0.045 * chroma, 1 + 0.015 * chroma * t
    rotated = -2 * np.sqrt(chroma**7 / (chroma**7 + 25.0**7)) * np.sin(np.radians(60 * np.exp(-(((hue - 275) / 25) ** 2))))
    out: Floats = np.sqrt((dl / sl) ** 2 + (dc / sc) ** 2 + (dh / sh) ** 2 + rotated * (dc / sc) * (dh / sh))
    return out
