"""A desk for tests: the least that Wayland asks of what shows windows (its wire format and core protocol 1.20, and
xdg-shell 1.31: wayland.xml and xdg-shell.xml), drawn nowhere.

Use: python wayland_desk.py SOCKET. It tells on standard output what is shown, a line each (`title WORDS`, `application
NAME`, `window WIDTH HEIGHT`, `popup WIDTH HEIGHT`, `gone ROLE`), and does what a line on standard input asks: `picture
FILE`, `click X Y`, `key CODE` (Linux input codes), `size WIDTH HEIGHT`, `close`; it ends with the input.
"""

from __future__ import annotations

import array
import mmap
import os
import selectors
import socket
import struct
import sys
from dataclasses import dataclass, field

import cv2
import numpy as np

LEFT_BUTTON = 0x110  # linux/input-event-codes.h
SIZE = (1280, 800)
GLOBALS = (
    ("wl_compositor", 4), ("wl_shm", 1), ("wl_subcompositor", 1), ("wl_output", 2), ("wl_seat", 5),
    ("wl_data_device_manager", 3), ("xdg_wm_base", 2),
)  # fmt: skip
# Requests that make something or tell something, by interface and opcode: name, and what follows (u: 32 bits, s: text).
REQUESTS = {
    ("wl_display", 0): ("sync", "u"), ("wl_display", 1): ("get_registry", "u"),
    ("wl_registry", 0): ("bind", "usuu"),
    ("wl_compositor", 0): ("create_surface", "u"), ("wl_compositor", 1): ("create_region", "u"),
    ("wl_surface", 1): ("attach", "uuu"), ("wl_surface", 3): ("frame", "u"), ("wl_surface", 6): ("commit", ""),
    ("wl_shm", 0): ("create_pool", "uu"),
    ("wl_shm_pool", 0): ("create_buffer", "uuuuuu"), ("wl_shm_pool", 2): ("resize", "u"),
    ("wl_seat", 0): ("get_pointer", "u"), ("wl_seat", 1): ("get_keyboard", "u"),
    ("wl_subcompositor", 1): ("get_subsurface", "uuu"),
    ("wl_data_device_manager", 0): ("create_data_source", "u"),
    ("wl_data_device_manager", 1): ("get_data_device", "uu"),
    ("xdg_wm_base", 1): ("create_positioner", "u"), ("xdg_wm_base", 2): ("get_xdg_surface", "uu"),
    ("xdg_positioner", 1): ("set_size", "uu"), ("xdg_positioner", 2): ("set_anchor_rect", "uuuu"),
    ("xdg_surface", 1): ("get_toplevel", "u"), ("xdg_surface", 2): ("get_popup", "uuu"),
    ("xdg_toplevel", 0): ("destroy", ""), ("xdg_toplevel", 2): ("set_title", "s"),
    ("xdg_toplevel", 3): ("set_app_id", "s"), ("xdg_popup", 0): ("destroy", ""),
}  # fmt: skip
MAKES = {
    "create_region": "wl_region", "get_pointer": "wl_pointer", "get_keyboard": "wl_keyboard",
    "get_subsurface": "wl_subsurface", "create_data_source": "wl_data_source", "get_data_device": "wl_data_device",
}  # fmt: skip


def tell(*words: object) -> None:
    print(*words, flush=True)


def signed(value: int) -> int:
    return value - (1 << 32) if value >= 1 << 31 else value


@dataclass
class Surface:
    """A surface: what was attached last, what it is, and which frames are waited for."""

    id: int
    attached: int = -1
    picture: np.ndarray | None = None
    role: str = ""
    shell: int = 0
    window: int = 0
    told: tuple[int, int] = (0, 0)
    popped: tuple[int, ...] = ()
    frames: list[int] = field(default_factory=list)


class Client:
    """One program on the desk. Requests are methods, by their name in the protocol."""

    def __init__(self, connection: socket.socket) -> None:
        self.connection = connection
        self.kinds = {1: "wl_display"}
        self.surfaces: dict[int, Surface] = {}
        self.of_window: dict[int, Surface] = {}  # by xdg_surface, xdg_toplevel or xdg_popup
        self.pools: dict[int, list] = {}
        self.buffers: dict[int, tuple[int, ...]] = {}
        self.places: dict[int, dict[str, tuple[int, ...]]] = {}
        self.serial = self.time = 0
        self._left, self._files = b"", list[int]()

    # --- the wire ---
    def read(self) -> bool:
        """Does what was asked; False once the program has gone."""
        room = socket.CMSG_SPACE(64)
        try:
            data, more, _, _ = self.connection.recvmsg(1 << 16, room)
        except ConnectionError:
            return False
        for _, kind, content in more:
            if kind == socket.SCM_RIGHTS:
                files = array.array("i")
                files.frombytes(content[: len(content) // files.itemsize * files.itemsize])
                self._files += files
        self._left += data
        while len(self._left) >= 8:
            id, head = struct.unpack_from("=II", self._left)
            size, opcode = head >> 16, head & 0xFFFF
            if len(self._left) < size:
                break
            body, self._left = self._left[8:size], self._left[size:]
            name, kinds = REQUESTS.get((self.kinds.get(id, ""), opcode), ("", ""))
            values = self._values(body, kinds)
            if name in MAKES:
                self.kinds[values[0]] = MAKES[name]
            elif name:
                getattr(self, name)(id, *values)
        return bool(data)

    @staticmethod
    def _values(body: bytes, kinds: str) -> list:
        found, at = [], 0
        for kind in kinds:
            (value,) = struct.unpack_from("=I", body, at)
            at += 4
            if kind == "s":
                found.append(body[at : at + value - 1].decode())
                at += (value + 3) // 4 * 4
            else:
                found.append(value)
        return found

    def send(self, id: int, opcode: int, *values: int | str | float | bytes) -> None:
        """An event; a float goes as 24.8, bytes as an array."""
        body = b""
        for value in values:
            if isinstance(value, str | bytes):
                content = value.encode() + b"\0" if isinstance(value, str) else value
                body += struct.pack("=I", len(content)) + content + b"\0" * (-len(content) % 4)
            else:
                number = round(value * 256) if isinstance(value, float) else value
                body += struct.pack("=I", number & 0xFFFFFFFF)
        self.connection.sendall(struct.pack("=II", id, (8 + len(body)) << 16 | opcode) + body)

    def _next(self) -> int:
        self.serial += 1
        return self.serial

    # --- the beginning ---
    def sync(self, id: int, callback: int) -> None:
        self.send(callback, 0, self._next())

    def get_registry(self, id: int, registry: int) -> None:
        self.kinds[registry] = "wl_registry"
        for number, (name, version) in enumerate(GLOBALS, 1):
            self.send(registry, 0, number, name, version)

    def bind(self, id: int, number: int, name: str, version: int, new: int) -> None:
        self.kinds[new] = name
        if name == "wl_shm":
            for format in (0, 1):  # argb8888, xrgb8888
                self.send(new, 0, format)
        elif name == "wl_seat":
            self.send(new, 0, 1 | 2)  # pointer, keyboard
            self.send(new, 1, "hands")
        elif name == "wl_output":
            self.send(new, 0, 0, 0, 600, 340, 0, "Tests", "Desk", 0)
            self.send(new, 1, 1, 1920, 1080, 60000)
            self.send(new, 3, 1)
            self.send(new, 2)

    # --- pictures ---
    def create_pool(self, id: int, pool: int, size: int) -> None:
        self.kinds[pool] = "wl_shm_pool"
        file = self._files.pop(0)
        self.pools[pool] = [file, mmap.mmap(file, size, prot=mmap.PROT_READ)]

    def resize(self, id: int, size: int) -> None:
        self.pools[id][1] = mmap.mmap(self.pools[id][0], size, prot=mmap.PROT_READ)

    def create_buffer(self, id: int, buffer: int, *shape: int) -> None:
        self.buffers[buffer] = (id, *shape)

    def create_surface(self, id: int, surface: int) -> None:
        self.kinds[surface] = "wl_surface"
        self.surfaces[surface] = Surface(surface)

    def attach(self, id: int, buffer: int, x: int, y: int) -> None:
        self.surfaces[id].attached = buffer

    def frame(self, id: int, callback: int) -> None:
        self.surfaces[id].frames.append(callback)

    def commit(self, id: int) -> None:
        surface = self.surfaces[id]
        if surface.attached == 0:
            surface.picture = None
        elif surface.attached > 0:
            pool, offset, width, height, stride, _ = self.buffers[surface.attached]
            rows = np.frombuffer(self.pools[pool][1], np.uint8, stride * height, offset).reshape(height, stride)
            surface.picture = rows[:, : 4 * width].reshape(height, width, 4).copy()
            self.send(surface.attached, 0)
            if surface.role and (width, height) != surface.told:
                surface.told = (width, height)
                tell(surface.role, width, height)
        elif surface.role == "window" and surface.told == (0, 0):
            self.configure(surface, *SIZE)
        elif surface.role == "popup" and surface.told == (0, 0):
            self.send(surface.window, 0, *surface.popped)
            self.send(surface.shell, 0, self._next())
        surface.attached = -1
        self.time += 16
        for callback in surface.frames:
            self.send(callback, 0, self.time)
        surface.frames.clear()

    # --- windows ---
    def create_positioner(self, id: int, new: int) -> None:
        self.kinds[new] = "xdg_positioner"
        self.places[new] = {}

    def set_size(self, id: int, *size: int) -> None:
        self.places[id]["size"] = size

    def set_anchor_rect(self, id: int, *box: int) -> None:
        self.places[id]["box"] = box

    def get_xdg_surface(self, id: int, new: int, surface: int) -> None:
        self.kinds[new] = "xdg_surface"
        self.of_window[new] = self.surfaces[surface]
        self.surfaces[surface].shell = new

    def get_toplevel(self, id: int, new: int) -> None:
        self.kinds[new] = "xdg_toplevel"
        surface = self.of_window[new] = self.of_window[id]
        surface.role, surface.window = "window", new

    def get_popup(self, id: int, new: int, parent: int, place: int) -> None:
        self.kinds[new] = "xdg_popup"
        surface = self.of_window[new] = self.of_window[id]
        surface.role, surface.window = "popup", new
        x, y, _, high = map(signed, self.places[place]["box"])
        surface.popped = (x, y + high, *self.places[place]["size"])

    def set_title(self, id: int, words: str) -> None:
        tell("title", words)

    def set_app_id(self, id: int, name: str) -> None:
        tell("application", name)

    def destroy(self, id: int) -> None:
        surface = self.of_window[id]
        tell("gone", surface.role)
        surface.role, surface.picture = "", None

    def configure(self, surface: Surface, width: int, height: int) -> None:
        """Gives a window its size."""
        self.send(surface.window, 0, width, height, b"")
        self.send(surface.shell, 0, self._next())

    # --- what the test asks ---
    def first(self, role: str) -> Surface | None:
        """The newest window, or popup, that shows something."""
        shown = [each for each in self.surfaces.values() if each.role == role and each.picture is not None]
        return shown[-1] if shown else None

    def _all(self, kind: str) -> list[int]:
        return [id for id, each in self.kinds.items() if each == kind]

    def do(self, what: str, *values: str) -> None:
        front = self.first("popup") or self.first("window")
        if front is None or front.picture is None:
            tell("nothing is shown")
        elif what == "picture":
            cv2.imwrite(values[0], front.picture[..., :3])
            tell("written", values[0])
        elif what == "click":
            for pointer in self._all("wl_pointer"):
                x, y = map(float, values)
                self.send(pointer, 0, self._next(), front.id, x, y)
                self.send(pointer, 2, self.time, x, y)
                self.send(pointer, 5)
                for down in (1, 0):
                    self.time += 8
                    self.send(pointer, 3, self._next(), self.time, LEFT_BUTTON, down)
                    self.send(pointer, 5)
        elif what == "key":
            for keyboard in self._all("wl_keyboard"):
                self.send(keyboard, 1, self._next(), front.id, b"")
                self.send(keyboard, 4, self._next(), 0, 0, 0, 0)
                for down in (1, 0):
                    self.time += 8
                    self.send(keyboard, 3, self._next(), self.time, int(values[0]), down)
        elif what == "size":
            self.configure(front, int(values[0]), int(values[1]))
        elif what == "close":
            self.send(front.window, 1)


def run(path: str) -> None:
    """Serves until standard input ends."""
    selector = selectors.DefaultSelector()
    door = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    door.bind(path)
    door.listen()
    selector.register(door, selectors.EVENT_READ)
    selector.register(sys.stdin.fileno(), selectors.EVENT_READ)
    clients: list[Client] = []
    tell("ready")
    while True:
        for key, _ in selector.select():
            if key.fileobj is door:
                clients.append(Client(door.accept()[0]))
                selector.register(clients[-1].connection, selectors.EVENT_READ, clients[-1])
            elif isinstance(key.data, Client):
                if not key.data.read():
                    selector.unregister(key.fileobj)
                    clients.remove(key.data)
                    tell("left")
            else:
                lines = os.read(sys.stdin.fileno(), 1 << 16).decode()
                if not lines:
                    return
                for line in lines.splitlines():
                    clients[-1].do(*line.split())


if __name__ == "__main__":
    run(sys.argv[1])
