"""Preview movies: the quick renderer's pictures as MP4."""

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

import av
import numpy as np


def write_movie(path: Path, pictures: Iterator[np.ndarray], rate: float) -> None:
    """Write pictures (h, w, 3) uint8, h and w even, as H.264 at `rate` frames a second; whole or not at all."""
    part = path.with_name(f".{path.stem}.part.mp4")
    try:
        with av.open(str(part), "w", options={"movflags": "faststart"}) as container:
            stream = None
            for picture in pictures:
                if stream is None:
                    stream = container.add_stream("libx264", rate=Fraction(rate).limit_denominator(1001))
                    stream.height, stream.width = picture.shape[:2]
                    stream.pix_fmt, stream.options = "yuv420p", {"crf": "18"}
                container.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))
            if stream is not None:
                container.mux(stream.encode())
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)
