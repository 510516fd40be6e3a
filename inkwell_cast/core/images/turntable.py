"""Pictures of one turn as an animation: WebP, https://developers.google.com/speed/webp/docs/riff_container."""

import io

from ..base.errors import InputProblem
from ..base.on_demand import library

Image = library("PIL.Image")
MOST_FRAMES, MOST_SIDE = 240, 8192
MILLISECONDS = 2400  # of one turn


def animated(frames: list[bytes]) -> bytes:
    """An endless WebP of frames, each a picture of the same size. Raises InputProblem for what is none."""
    if not 2 <= len(frames) <= MOST_FRAMES:
        raise InputProblem("The turntable", f"It has {len(frames)} frames.", f"Give 2 to {MOST_FRAMES}.")
    pictures = []
    for number, data in enumerate(frames):
        try:
            picture = Image.open(io.BytesIO(data))
            if max(picture.size) > MOST_SIDE:
                raise InputProblem("The turntable", f"Frame {number} is too large.", "Make the window smaller.")
            pictures.append(picture.convert("RGBA"))
        except (OSError, ValueError, Image.DecompressionBombError) as error:
            raise InputProblem("The turntable", f"Frame {number} is no picture.", "Make it again.") from error
    if len({picture.size for picture in pictures}) > 1:
        raise InputProblem("The turntable", "Its frames have several sizes.", "Leave the window as it is meanwhile.")
    out, each = io.BytesIO(), MILLISECONDS // len(pictures)
    pictures[0].save(
        out, "WEBP", save_all=True, append_images=pictures[1:], duration=max(each, 10), loop=0, quality=88, method=3
    )
    return out.getvalue()
