"""How the weight of a brush or a ball falls off toward its rim."""

from ...base.kernels import kernel


@kernel
def fade(share: float, rim: float) -> float:
    """Weight at a share of a radius: full inside, smoothly to nothing over the outermost `rim` of it."""
    if share >= 1:
        return 0.0
    if share <= 1 - rim:
        return 1.0
    s = (1 - share) / rim
    return s * s * (3 - 2 * s)
