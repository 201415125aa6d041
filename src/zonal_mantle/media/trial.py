"""Opens one file after another in a process of its own, so that a decoder that crashes or never ends takes nobody
along. Run as a script: after a first word, a line with a path in, a line with a word out. It imports the decoders and
nothing of ours."""

import os
import resource
import sys
import time

MOST_BYTES = 6 << 30  # of data: a picture of the largest size that is taken, as floats, and what its decoder needs
VIDEO_SECONDS = 0.2  # a video is decoded for: it is waited for
TABLES = (".cube", ".clf", ".ctf", ".cc", ".ccc", ".cdl")
VIDEO = (".mp4", ".mov", ".mkv", ".m4v", ".avi", ".mxf", ".webm")


def attempt(path: str) -> None:
    """Decodes a picture, a table, or the beginning of a video. What Python raises is for the reader proper to tell."""
    if path.lower().endswith(VIDEO):
        import av

        end = time.monotonic() + VIDEO_SECONDS
        with av.open(path, metadata_errors="ignore") as container:
            container.streams.video[0].thread_type = "AUTO"
            for _ in container.decode(video=0):
                if time.monotonic() > end:
                    return
    elif path.lower().endswith(TABLES):
        import PyOpenColorIO

        PyOpenColorIO.ClearAllCaches()  # it keeps files by their path alone
        PyOpenColorIO.Config.CreateRaw().getProcessor(PyOpenColorIO.FileTransform(path)).getDefaultCPUProcessor()
    else:
        import OpenImageIO

        picture = OpenImageIO.ImageInput.open(path)
        if picture is not None:
            spec = picture.spec()
            if spec.width * spec.height <= 1 << 26:
                picture.read_image(0, 0, 0, min(spec.nchannels, 4), spec.format)
            picture.close()


def main() -> None:
    """Serves until its input ends."""
    answer = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # decoders that print, print elsewhere
    resource.setrlimit(resource.RLIMIT_DATA, (MOST_BYTES, MOST_BYTES))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    import av  # noqa: F401
    import OpenImageIO  # noqa: F401

    print("ready", file=answer, flush=True)
    for line in sys.stdin:
        word = "opened"
        try:
            attempt(os.fsdecode(bytes.fromhex(line)))
        except MemoryError:
            word = "memory"
        except Exception:
            word = "refused"
        print(word, file=answer, flush=True)


if __name__ == "__main__":
    main()
