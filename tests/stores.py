"""Pictures that one test has read and made, for those after it."""

from functools import lru_cache

from zonal_mantle.comp import Pictures


@lru_cache(maxsize=1)
def kept_pictures() -> Pictures:
    """The store of all tests of a process that are not about stores. What it keeps is known by what its pixels depend
    on, times and sizes of files included, so that a test that is given what it should not be has found a fault."""
    return Pictures()
