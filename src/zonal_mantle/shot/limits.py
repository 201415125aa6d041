"""How much a shot and the files that it names may hold, and why: a file from somebody else must not cost gigabytes or
minutes before it is refused."""

MOST_SIDE = 65_536  # pixels; what OpenEXR and TIFF files hold in practice
MOST_PIXELS = 2**28  # a lat-long of 22 000 × 11 000; as float RGBA that is 4 GiB
MOST_FRAMES = 200_000  # two hours and more
FARTHEST_FRAME = 10_000_000
MOST_PATH = 4096  # bytes; the limit of Linux (PATH_MAX, limits.h)
LONGEST_CHAIN = 64  # locks that ride on one another: each is worked out through all of those below it

MOST_BYTES = 64 << 20  # a camera solved on 10 000 frames with 64 marks takes about 30 MB
MOST_CONTAINERS = 1_500_000  # lists and objects: the same camera has about 700 000
MOST_VALUES = 8_000_000
MOST_DEPTH = 40  # a shot goes 14 deep
MOST_ITEMS = 200_000  # of one list: the frames of more than two hours
MOST_PARTS = 1000  # zones, mattes, sources …: each is looked at for every frame
MOST_LOCKS = 300  # each is measured against those that it rides on
MOST_POINTS = 5000  # of one outline: as many as a plate of 8192 pixels has along its rim, a handful of pixels apart
MOST_TEXT = 20_000  # characters; file systems end at 4096 bytes for a path
MOST_NUMBER = 1e9  # frames, metres, pixels, factors: nothing on a plate is larger
MOST_PX = 1e5  # of what is told in pixels: a picture's side is at most 65 536
