"""What both lessons share: perceptrons, and Adam with decoupled decay (Loshchilov & Hutter 2019) on a cosine rate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
Net = dict[str, Array]

BETAS = (0.9, 0.999)


def fresh(sizes: tuple[int, ...], rng: np.random.Generator) -> Net:
    """A perceptron that knows nothing (He et al. 2015)."""
    net: Net = {}
    for layer, (inputs, outputs) in enumerate(zip(sizes, sizes[1:])):
        net[f"weights{layer}"] = rng.standard_normal((inputs, outputs), np.float32) * np.float32(np.sqrt(2 / inputs))
        net[f"offsets{layer}"] = np.zeros(outputs, np.float32)
    return net


def through(net: Net, x: Array) -> list[Array]:
    """What goes into each layer, and last what comes out (n, 1)."""
    last = len(net) // 2 - 1
    seen = [x]
    for layer in range(last + 1):
        out = seen[-1] @ net[f"weights{layer}"] + net[f"offsets{layer}"]
        seen.append(out if layer == last else np.maximum(out, 0))
    return seen


def slopes(net: Net, seen: list[Array], slope: Array) -> Net:
    """How the loss changes with every weight; slope (n, 1) is its change with what came out."""
    out: Net = {}
    for layer in range(len(net) // 2 - 1, -1, -1):
        out[f"weights{layer}"], out[f"offsets{layer}"] = seen[layer].T @ slope, slope.sum(0)
        slope = (slope @ net[f"weights{layer}"].T) * (seen[layer] > 0)
    return out


class Adam:
    """Walks a net down, one step at a time."""

    def __init__(self, net: Net, turns: int, rate: float, decay: float) -> None:
        self.net, self.turns, self.rate, self.decay, self.turn = net, turns, rate, decay, 0
        self.moments = {name: (np.zeros_like(value), np.zeros_like(value)) for name, value in net.items()}

    def step(self, down: Net) -> None:
        rate = self.rate * 0.5 * (1 + np.cos(np.pi * self.turn / self.turns))
        self.turn += 1
        grown = [1 - beta**self.turn for beta in BETAS]
        for name, each in down.items():
            first, second = self.moments[name]
            first += (1 - BETAS[0]) * (each - first)
            second += (1 - BETAS[1]) * (each * each - second)
            change = (first / grown[0]) / (np.sqrt(second / grown[1]) + 1e-8)
            decay = self.decay if name.startswith("weights") else 0
            self.net[name] -= np.float32(rate) * (change + decay * self.net[name])
