"""The GPU passes: solid items and the ground that catches their shadow, seen by a straight camera, to linear light.

One frame is N sub-frames, each with its own place in the pixel, moment of the shutter, point of the sun and direction of the
sky; their sum gives antialiasing, motion blur, soft shadows and sky occlusion at once. A draft is N = 1 of the same code.
One renderer belongs to one thread.
"""

import ctypes
import ctypes.util
from collections.abc import Callable
from typing import Any, NamedTuple

import moderngl
import numpy as np

from ..basics.errors import RenderError
from ..shape.extrude import Mesh
from . import shaders

SUN_MAP, SKY_MAP = 2048, 512
BLOCK = 64  # buffers are made in multiples of this, so that a moving title does not make new ones for each frame
MOST_MESHES = 64


_boxes: dict[int, tuple[Mesh, np.ndarray]] = {}


class Item(NamedTuple):
    """A solid: its mesh, where it is over the frame's time (model(share) -> (4, 4)), and its surface (base: linear light)."""

    mesh: Mesh
    model: Callable[[float], np.ndarray]
    base: tuple[float, float, float]
    roughness: float
    metal: float


class Lamp(NamedTuple):
    """direction (3,) to the sun; its light and the sky's (3,) linear, as a white surface sends them back; width in degrees."""

    direction: np.ndarray
    sun: np.ndarray
    sky: np.ndarray
    softness_deg: float


class View(NamedTuple):
    """A straight camera: pose(share of the shutter, -0.5..0.5) -> (R, t); focal, cx, cy in px; and the part of its picture
    that is rendered: left, top, width, height in px (may reach beyond the picture)."""

    pose: Callable[[float], tuple[np.ndarray, np.ndarray]]
    focal: float
    cx: float
    cy: float
    left: int
    top: int
    width: int
    height: int


class Layers(NamedTuple):
    """colour (h, w, 4): premultiplied linear light. shade (h, w, 3): what is left of the light on the ground, 1 where all is."""

    colour: np.ndarray
    shade: np.ndarray


def sample(number: int, dimensions: int = 6) -> np.ndarray:
    """Point `number` of a low-discrepancy lattice in 0..1. Source: M. Roberts, R-sequence on the generalised golden ratio."""
    g = 2.0
    for _ in range(30):
        g = (1 + g) ** (1 / (dimensions + 1))
    return (0.5 + number * g ** -np.arange(1, dimensions + 1)) % 1.0


def _disc(u: float, v: float) -> tuple[float, float]:
    return np.sqrt(u) * np.cos(2 * np.pi * v), np.sqrt(u) * np.sin(2 * np.pi * v)


def _axes(d: np.ndarray) -> np.ndarray:
    """(3, 3) rows: two axes across the direction d, and d."""
    x = np.cross([0, 0, 1.0] if abs(d[2]) < 0.99 else [1.0, 0, 0], d)
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(d, x), d])


def _parallel_view(d: np.ndarray, centre: np.ndarray, radius: float) -> np.ndarray:
    """(4, 4) that looks along -d at a ball; depth grows away from the light."""
    m = np.eye(4)
    m[:3, :3] = _axes(d)
    m[:3, 3] = -m[:3, :3] @ centre
    return np.diag([1 / radius, 1 / radius, -1 / radius, 1.0]) @ m


def camera_matrix(R: np.ndarray, t: np.ndarray, view: View, jitter: tuple[float, float], near: float, far: float) -> np.ndarray:
    """(4, 4) world to clip space in which the top row of the picture is the first row of the buffer."""
    pose = np.eye(4)
    pose[:3, :3], pose[:3, 3] = R, t
    p = np.zeros((4, 4))
    p[0, 0], p[0, 2] = 2 * view.focal / view.width, 2 * (view.cx - view.left + 0.5 + jitter[0]) / view.width - 1
    p[1, 1], p[1, 2] = 2 * view.focal / view.height, 2 * (view.cy - view.top + 0.5 + jitter[1]) / view.height - 1
    p[2, 2], p[2, 3] = (far + near) / (far - near), -2 * far * near / (far - near)
    p[3, 2] = 1
    return p @ pose


class Renderer:
    """Owns a GL context without a window. Raises RenderError when the machine has no OpenGL 3.3, not even in software."""

    def __init__(self) -> None:
        try:
            self.gl = moderngl.create_context(standalone=True, backend="egl", require=330)  # type: ignore[arg-type]
        except Exception as error:  # glcontext raises bare Exceptions of several kinds
            raise RenderError("No OpenGL 3.3 is available on this machine, not even in software.",
                              "Install it with: apt-get install libegl1 libgl1-mesa-dri") from error  # fmt: skip
        self._finish = ctypes.CDLL(ctypes.util.find_library("GL") or "libGL.so.1").glFinish
        self.paint = self.gl.program(vertex_shader=shaders.VERTEX, fragment_shader=shaders.FRAGMENT)
        self.depth = self.gl.program(vertex_shader=shaders.DEPTH_VERTEX, fragment_shader=shaders.DEPTH_FRAGMENT)
        self.sum = self.gl.program(vertex_shader=shaders.ADD_VERTEX, fragment_shader=shaders.ADD_FRAGMENT)
        self.sum_triangle = self.gl.vertex_array(self.sum, [])
        self.sun_map, self.sun_buffer = self._shadow_map(SUN_MAP)
        self.sky_map, self.sky_buffer = self._shadow_map(SKY_MAP)
        self._meshes: dict[int, tuple[Mesh, Any, Any]] = {}
        self._size = (0, 0)
        self._made: list[Any] = []

    def _shadow_map(self, size: int):
        texture = self.gl.depth_texture((size, size))
        texture.compare_func = "<="
        texture.repeat_x = texture.repeat_y = False
        return texture, self.gl.framebuffer(depth_attachment=texture)

    def _buffers(self, width: int, height: int) -> None:
        size = -(-width // BLOCK) * BLOCK, -(-height // BLOCK) * BLOCK
        if size == self._size:
            return
        for thing in self._made:
            thing.release()
        textures = [self.gl.texture(size, 4, dtype=kind) for kind in ("f2", "f2", "f4", "f4")]
        for texture in textures:
            texture.filter = (moderngl.NEAREST, moderngl.NEAREST)
        depth = self.gl.depth_renderbuffer(size)
        self.once = self.gl.framebuffer(textures[:2], depth)
        self.all = self.gl.framebuffer(textures[2:])
        self.once_textures, self.all_textures = textures[:2], textures[2:]
        self._made, self._size = [self.once, self.all, depth, *textures], size

    def _arrays(self, mesh: Mesh):
        """Vertex arrays for painting and for depth; kept while the mesh is in use."""
        found = self._meshes.pop(id(mesh), None)
        if found is None:
            data = self.gl.buffer(np.hstack([mesh.vertices, mesh.normals]).astype("f4").tobytes())
            index = self.gl.buffer(mesh.triangles.astype("i4").tobytes())
            found = (
                mesh,
                self.gl.vertex_array(self.paint, [(data, "3f 3f", "position", "normal")], index),
                self.gl.vertex_array(self.depth, [(data, "3f 12x", "position")], index),
            )
        self._meshes[id(mesh)] = found
        while len(self._meshes) > MOST_MESHES:
            _, paint, depth = self._meshes.pop(next(iter(self._meshes)))
            paint.release()
            depth.release()
        return found[1], found[2]

    @staticmethod
    def _set(program: Any, **values: Any) -> None:
        for name, value in values.items():
            if name not in program:  # GLSL drops what it does not use
                continue
            if isinstance(value, np.ndarray) and value.ndim == 2:
                program[name].write(np.ascontiguousarray(value.T, "f4").tobytes())
            elif isinstance(value, np.ndarray):
                program[name].write(value.astype("f4").tobytes())
            else:
                program[name] = value

    def render(self, items: list[Item], ground: Mesh | None, view: View, lamp: Lamp, samples: int, shutter: float,
               check: Callable[[], None] = lambda: None) -> Layers:  # fmt: skip
        """The items and their shadow on `ground`, from `samples` sub-frames. `check` is called before each and may raise."""
        self._buffers(view.width, view.height)
        gl = self.gl
        self.all.use()
        self.all.clear()
        for number in range(samples):
            check()
            self._sub_frame(items, ground, view, lamp, number, samples, shutter)
            # the software driver works when its result is asked for; asked for here it does so without the interpreter lock,
            # which a draw call that reads the result would hold (gaps of 250 ms in the window, measured)
            self._finish()
            gl.disable(moderngl.DEPTH_TEST)
            gl.enable(moderngl.BLEND)
            gl.blend_func = moderngl.ONE, moderngl.ONE
            self.all.use()
            gl.viewport = (0, 0, view.width, view.height)
            for unit, texture in enumerate(self.once_textures):
                texture.use(unit)
            self._set(self.sum, colours=0, lights=1, share=1.0 / samples)
            self.sum_triangle.render(moderngl.TRIANGLES, vertices=3)
            gl.disable(moderngl.BLEND)
            self._finish()
        colour, light = (
            np.frombuffer(self.all.read((0, 0, view.width, view.height), 4, attachment=k, dtype="f4"), "f4").reshape(view.height, view.width, 4)
            for k in (0, 1)
        )
        return Layers(colour, _ratio(light, lamp))

    def _sub_frame(self, items: list[Item], ground: Mesh | None, view: View, lamp: Lamp, number: int, samples: int, shutter: float) -> None:
        gl, u = self.gl, sample(number)
        many = samples > 1
        moment = shutter * ((number + 0.5) / samples - 0.5)
        models = [item.model(moment) for item in items]
        centre, radius = bounds(items, models)
        sun = lamp.direction
        if many:
            dx, dy = _disc(u[2], u[3])
            axes, width = _axes(sun), np.tan(np.deg2rad(lamp.softness_deg / 2))
            sun = sun + width * (dx * axes[0] + dy * axes[1])
            sun = sun / np.linalg.norm(sun)
        sky = np.array([0, 0, 1.0])
        if many:
            # directions with the density of a cosine, the share of each in a flat ground's light
            dx, dy = _disc(u[4], u[5])
            sky = np.array([dx, dy, np.sqrt(max(0.03, 1 - dx * dx - dy * dy))])
            sky /= np.linalg.norm(sky)
        sun_view, sky_view = _parallel_view(sun, centre, radius), _parallel_view(sky, centre, radius)
        gl.enable(moderngl.DEPTH_TEST)
        gl.disable(moderngl.BLEND)
        self._depth(self.sun_buffer, sun_view, items, models)
        if many:
            self._depth(self.sky_buffer, sky_view, items, models)
        self._finish()
        R, t = view.pose(moment)
        eye = -R.T @ t
        distance = float(np.linalg.norm(eye - centre))
        near, far = max(distance - radius * 1.2, distance * 0.002, 0.01), distance + radius * 12 + 100
        near = min(near, max(0.02, abs(eye[2]) * 0.2))
        jitter = (u[0] - 0.5, u[1] - 0.5) if many else (0.0, 0.0)
        self.once.use()
        self.gl.viewport = (0, 0, view.width, view.height)
        self.once.clear(0, 0, 0, 0)
        self.sun_map.use(0)
        self.sky_map.use(1)
        bounce = 0.30 * (lamp.sun * max(sun[2], 0.0) + lamp.sky)
        self._set(self.paint, view=camera_matrix(R, t, view, jitter, near, far), eye=eye, sun=sun, sun_light=lamp.sun, sky_light=lamp.sky,
                  ground_light=bounce, sun_map=0, sky_map=1, sun_view=sun_view, sky_view=sky_view, sky_shadow=many, sky_from=sky,
                  sun_bias=2.2 * radius / SUN_MAP)  # fmt: skip
        for item, model in zip(items, models):
            turn = np.linalg.inv(model[:3, :3]).T
            self._set(self.paint, model=model, turn=turn, catcher=False, base=np.array(item.base), roughness=item.roughness, metal=item.metal)
            self._arrays(item.mesh)[0].render()
        if ground is not None:
            self._set(self.paint, model=np.eye(4), turn=np.eye(3), catcher=True)
            self._arrays(ground)[0].render()

    def _depth(self, buffer: Any, view: np.ndarray, items: list[Item], models: list[np.ndarray]) -> None:
        buffer.use()
        buffer.clear(depth=1.0)
        self._set(self.depth, view=view)
        for item, model in zip(items, models):
            self._set(self.depth, model=model)
            self._arrays(item.mesh)[1].render()


def bounds(items: list[Item], models: list[np.ndarray]) -> tuple[np.ndarray, float]:
    """A ball round all items: centre (3,) and radius."""
    corners = np.concatenate([box_corners(item.mesh) @ m[:3, :3].T + m[:3, 3] for item, m in zip(items, models)])
    low, high = corners.min(0), corners.max(0)
    centre = (low + high) / 2
    return centre, max(float(np.linalg.norm(corners - centre, axis=1).max()) * 1.02, 1e-6)


def box_corners(mesh: Mesh) -> np.ndarray:
    """(8, 3) corners of the mesh's own box; kept for the last meshes, since each picture asks many times."""
    kept = _boxes.get(id(mesh))
    if kept is not None and kept[0] is mesh:
        return kept[1]
    low, high = (mesh.vertices.min(0), mesh.vertices.max(0)) if len(mesh.vertices) else (np.zeros(3), np.zeros(3))
    corners = np.array([[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)], float)
    if len(_boxes) >= MOST_MESHES:
        _boxes.clear()
    _boxes[id(mesh)] = (mesh, corners)
    return corners


def _ratio(light: np.ndarray, lamp: Lamp) -> np.ndarray:
    """Ratio of sums: light with our objects over light without them, sun and sky apart until here."""
    with_us = light[..., 0:1] * lamp.sun + light[..., 2:3] * lamp.sky
    without = light[..., 1:2] * lamp.sun + light[..., 3:4] * lamp.sky
    return np.where(without > 1e-6, with_us / np.maximum(without, 1e-6), 1.0).astype(np.float32)
