"""Contrast of words on their ground (WCAG 2.2, definitions of relative luminance and contrast ratio)."""

LEAST, LEAST_LARGE = 4.5, 3.0


def luminance(colour: str) -> float:
    """Relative luminance of ``#rrggbb``, from 0 for black to 1 for white."""
    channels = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    linear = [
        channel / 12.92 if channel <= 0.04045 else ((channel + 0.055) / 1.055) ** 2.4 for channel in channels
    ]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    """From 1 to 21, whichever comes first."""
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)
