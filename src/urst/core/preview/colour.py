"""Between display colours and linear light (IEC 61966-2-1)."""

import numpy as np


def linear(colour: str) -> np.ndarray:
    """Linear RGB (3,) of an sRGB colour like '#a2593f' (IEC 61966-2-1)."""
    c = np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)]) / 255.0
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)


def to_srgb(image: np.ndarray) -> np.ndarray:
    """Eight-bit sRGB (h, w, 3) of linear RGB (IEC 61966-2-1), bright parts rolled off."""
    x = np.where(image > 0.7, 0.7 + 0.3 * np.tanh((image - 0.7) / 0.6), image)
    x = np.clip(x, 0.0, 1.0)
    x = np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)
    return np.round(255.0 * x).astype(np.uint8)
