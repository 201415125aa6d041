"""A short name for a value that is equal where its content is, in this process and in any other."""

from __future__ import annotations

import dataclasses
import hashlib
import struct
from typing import Any

import numpy as np

from ..media.picture import Picture
from ..media.stamps import UsedFile, content_of
from ..shot.base import Value

NUMERICS = 13  # raised whenever the same plan gives other pixels than before: portable digests change with it


def digest(value: Any, portable: bool = False) -> str:
    """32 hexadecimal digits of a value's content: numbers by their bits, arrays by shape and bytes.

    Parameters
    ----------
    value : plain values, tuples, arrays, frozen dataclasses and values of the shot, in any nesting. Fields that do not
        count for comparison do not count here.
    portable : files count by their content rather than by path, time and size, and the version of our numerics counts:
        the same on any machine.

    Raises
    ------
    TypeError : something in the value has no content to go by, such as a function.

    Examples
    --------
    >>> digest((1, 2.0)) == digest((1, 2.0)), digest(-1.0) == digest(-2.0)
    (True, False)
    """
    maker = hashlib.blake2b(digest_size=16)
    if portable:
        maker.update(b"numerics %d" % NUMERICS)
    _feed(maker, value, portable)
    return maker.hexdigest()


def _feed(maker: Any, value: Any, portable: bool) -> None:
    if value is None or isinstance(value, bool):
        maker.update(b"?" + repr(value).encode())
    elif isinstance(value, int):
        maker.update(b"i%d;" % value)
    elif isinstance(value, float):
        maker.update(b"f" + struct.pack("<d", value))
    elif isinstance(value, np.floating):
        maker.update(b"f" + struct.pack("<d", float(value)))
    elif isinstance(value, str):
        text = value.encode(errors="surrogateescape")
        maker.update(b"s%d:" % len(text) + text)
    elif isinstance(value, bytes):
        maker.update(b"b%d:" % len(value) + value)
    elif isinstance(value, tuple):
        maker.update(b"(%d" % len(value))
        for part in value:
            _feed(maker, part, portable)
    elif isinstance(value, np.ndarray):
        maker.update(f"a{value.dtype.str}{value.shape}".encode())
        maker.update(np.ascontiguousarray(value).data)
    elif isinstance(value, Picture) and portable:
        own = (value.kind, value.index, value.size, value.encoding, value.alpha)
        _feed(maker, ("picture", content_of(value.path, value.stamp), *own), portable)
    elif isinstance(value, UsedFile) and portable:
        _feed(maker, ("file", content_of(value.path, value.stamp)), portable)
    elif dataclasses.is_dataclass(value):
        maker.update(b"d" + type(value).__name__.encode())
        for part in dataclasses.fields(value):
            if part.compare:
                _feed(maker, getattr(value, part.name), portable)
    elif isinstance(value, Value):
        maker.update(b"v" + type(value).__name__.encode())
        for name in type(value).model_fields:
            _feed(maker, getattr(value, name), portable)
    else:
        raise TypeError(f"A {type(value).__name__} has no content to go by.")
