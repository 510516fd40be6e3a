"""Numbers as people read them."""

THIN = "\u202f"  # between groups of three digits


def count(number: int) -> str:
    return f"{number:,}".replace(",", THIN)


def figure(value: float) -> str:
    """A length in scene units with three figures, whole where it has more: never as a power of ten above one."""
    return count(round(value)) if abs(value) >= 999.5 else f"{value:.3g}"
