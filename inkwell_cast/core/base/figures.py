"""Numbers as people read them."""


def figure(value: float) -> str:
    """A length in scene units with three figures, whole where it has more: never as a power of ten above one."""
    return f"{round(value):,}" if abs(value) >= 999.5 else f"{value:.3g}"
