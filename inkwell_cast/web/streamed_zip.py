"""Archives that are sent while they are made, so that none of them lies in memory."""

import pathlib
import zipfile
from collections.abc import Iterable, Iterator

BLOCK = 1 << 20  # bytes read at a time


class _Written:
    """What an archive wrote since it was last taken; it can be neither rewound nor read."""

    def __init__(self) -> None:
        self._blocks: list[bytes] = []

    def write(self, block: bytes) -> int:
        self._blocks.append(bytes(block))
        return len(block)

    def flush(self) -> None:
        pass

    def taken(self) -> bytes:
        blocks, self._blocks = self._blocks, []
        return b"".join(blocks)


def zipped(files: Iterable[tuple[str, pathlib.Path | bytes]]) -> Iterator[bytes]:
    """The bytes of an archive of files by name, uncompressed, about a megabyte at a time."""
    written = _Written()
    with zipfile.ZipFile(written, "w", zipfile.ZIP_STORED) as archive:  # type: ignore[call-overload]
        for name, content in files:
            entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
            with archive.open(entry, "w", force_zip64=True) as inside:
                if isinstance(content, bytes):
                    inside.write(content)
                else:
                    with content.open("rb") as file:
                        while block := file.read(BLOCK):
                            inside.write(block)
                            yield written.taken()
            yield written.taken()
    yield written.taken()
