"""Whether files that a shot uses were written again since they were read."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from ..shot.source import Source
from .picture import file_of
from .stamps import stamp_of


def used_files_digest(sources: Iterable[Source]) -> str:
    """Names the times and sizes of all files that sources use: another name where one of them was written again.

    Files are looked at one by one, which works on network folders too.
    """
    maker = hashlib.blake2b(digest_size=16)
    for source in sources:
        frames = range(source.start, source.end + 1) if source.kind == "sequence" else range(1)
        for frame in frames:
            path = file_of(source, frame)
            maker.update(f"{path}{stamp_of(path)}".encode(errors="surrogateescape"))
    return maker.hexdigest()
