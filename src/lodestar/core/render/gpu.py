"""The GPU passes: solid items, and what stands in for the place: it takes their shadows, hides and mirrors them. Seen by a straight camera, to linear light.

One frame is N sub-frames, each with its own place in the pixel, moment of the shutter, point of the sun and direction of the
sky; their sum gives antialiasing, motion blur, soft shadows and sky occlusion at once. A draft is N = 1 of the same code.
One renderer belongs to one thread.
"""

import ctypes
import ctypes.util
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

import moderngl
import numpy as np

from ..basics.errors import RenderError
from ..shape.extrude import Mesh
from . import shaders
from .items import Item, bounds, box_corners, upper_plane

SUN_MAP, DRAFT_SUN_MAP, SKY_MAP = 2048, 512, 512
BLOCK = 64  # buffers are made in multiples of this, so that a moving title does not make new ones for each frame
MOST_MESHES, MOST_PICTURES = 64, 8
SRGB8_ALPHA8, CLIP_DISTANCE = 0x8C43, 0x3000  # OpenGL's own numbers


class Lamp(NamedTuple):
    """direction (3,) to the sun; its light and the sky's (3,) linear, as a white surface sends them back; width in degrees."""

    direction: np.ndarray
    sun: np.ndarray
    sky: np.ndarray
    softness_deg: float


class View(NamedTuple):
    """A straight camera: pose(share of the shutter, -0.5..0.5) -> (R, t, by how many times focal it is zoomed); focal, cx, cy in px; and the part of its picture
    that is rendered: left, top, width, height in px (may reach beyond the picture)."""

    pose: Callable[[float], tuple[np.ndarray, np.ndarray, float]]
    focal: float
    cx: float
    cy: float
    left: int
    top: int
    width: int
    height: int


class Drawn(NamedTuple):
    """colour (h, w, 4): premultiplied linear light. light (h, w, 4): on what receives it, as shares of a lamp's: sun with our
    things, sun without them, sky with, sky without."""

    colour: np.ndarray
    light: np.ndarray


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


def camera_matrix(R: np.ndarray, t: np.ndarray, zoom: float, view: View, jitter: tuple[float, float], near: float, far: float) -> np.ndarray:
    """(4, 4) world to clip space in which the top row of the picture is the first row of the buffer."""
    pose = np.eye(4)
    pose[:3, :3], pose[:3, 3] = R, t
    p = np.zeros((4, 4))
    focal = zoom * view.focal
    p[0, 0], p[0, 2] = 2 * focal / view.width, 2 * (view.cx - view.left + 0.5 + jitter[0]) / view.width - 1
    p[1, 1], p[1, 2] = 2 * focal / view.height, 2 * (view.cy - view.top + 0.5 + jitter[1]) / view.height - 1
    p[2, 2], p[2, 3] = (far + near) / (far - near), -2 * far * near / (far - near)
    p[3, 2] = 1
    return p @ pose


def _release(things: Iterable[Any]) -> None:
    for thing in things:
        thing.release()


class Renderer:
    """Owns a GL context without a window. Raises RenderError when the machine has no OpenGL 3.3, not even in software."""

    def __init__(self) -> None:
        try:
            self.gl = moderngl.create_context(standalone=True, backend="egl", require=330)  # type: ignore[arg-type]
        except Exception as error:  # glcontext raises bare Exceptions of several kinds
            raise RenderError(
                "No OpenGL 3.3 is available on this machine, not even in software.", "Install it with: apt-get install libegl1 libgl1-mesa-dri"
            ) from error
        self._finish = ctypes.CDLL(ctypes.util.find_library("GL") or "libGL.so.1").glFinish
        self.paint = self.gl.program(vertex_shader=shaders.VERTEX, fragment_shader=shaders.FRAGMENT)
        self.depth = self.gl.program(vertex_shader=shaders.DEPTH_VERTEX, fragment_shader=shaders.DEPTH_FRAGMENT)
        self.sum = self.gl.program(vertex_shader=shaders.ADD_VERTEX, fragment_shader=shaders.ADD_FRAGMENT)
        self.sum_triangle = self.gl.vertex_array(self.sum, [])
        self.sun_map, self.sun_buffer = self._shadow_map(SUN_MAP)
        self.draft_sun_map, self.draft_sun_buffer = self._shadow_map(DRAFT_SUN_MAP)
        self.sky_map, self.sky_buffer = self._shadow_map(SKY_MAP)
        self.no_picture = self.gl.texture((1, 1), 4, b"\xff\xff\xff\xff")
        self._pictures: dict[int, tuple[np.ndarray, Any]] = {}
        self._meshes: dict[int, tuple[Mesh, Any, Any, Any, Any]] = {}
        self._size = (0, 0)
        self._part = (0, 0, 0, 0)
        self._made: list[Any] = []

    def close(self) -> None:
        """Let go of all that was made in the context, and of the context: it frees nothing of what is in it by itself."""
        with self.gl:
            self._release_all()
        self._meshes, self._pictures, self._made = {}, {}, []
        # a context that is current is not destroyed, not even by the end of its thread (100 MB each at 1080p, measured)
        egl = ctypes.CDLL("libEGL.so.1")
        egl.eglGetCurrentDisplay.restype = ctypes.c_void_p
        egl.eglMakeCurrent.argtypes = [ctypes.c_void_p] * 4
        egl.eglMakeCurrent(egl.eglGetCurrentDisplay(), None, None, None)
        self.gl.release()

    def _release_all(self) -> None:
        for kept in self._meshes.values():
            _release(kept[1:])
        _release(texture for _, texture in self._pictures.values())
        _release(self._made)
        _release(
            (
                self.sun_buffer,
                self.draft_sun_buffer,
                self.sky_buffer,
                self.sun_map,
                self.draft_sun_map,
                self.sky_map,
                self.no_picture,
                self.sum_triangle,
                self.paint,
                self.depth,
                self.sum,
            )
        )

    def _shadow_map(self, size: int):
        texture = self.gl.depth_texture((size, size))
        texture.compare_func = "<="
        texture.repeat_x = texture.repeat_y = False
        return texture, self.gl.framebuffer(depth_attachment=texture)

    def _buffers(self, width: int, height: int) -> None:
        size = -(-width // BLOCK) * BLOCK, -(-height // BLOCK) * BLOCK
        wide, high = self._size
        if width <= wide and height <= high and 4 * size[0] * size[1] >= wide * high:
            return
        _release(self._made)
        textures = [self.gl.texture(size, 4, dtype=kind) for kind in ("f2", "f2", "f4", "f4", "f2")]
        for texture in textures:
            texture.filter = (moderngl.NEAREST, moderngl.NEAREST)
        # the mirror has a depth of its own: what it shows is drawn while the picture's depth is still wanted
        depth, behind = self.gl.depth_renderbuffer(size), self.gl.depth_renderbuffer(size)
        self.once = self.gl.framebuffer(textures[:2], depth)
        self.all = self.gl.framebuffer(textures[2:4])
        self.mirrored = self.gl.framebuffer(textures[4:], behind)
        self.once_textures, self.all_textures, self.mirror = textures[:2], textures[2:4], textures[4]
        self._made, self._size = [self.once, self.all, self.mirrored, depth, behind, *textures], size

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
                data,
                index,
            )
        self._meshes[id(mesh)] = found
        while len(self._meshes) > MOST_MESHES:
            _release(self._meshes.pop(next(iter(self._meshes)))[1:])
        return found[1], found[2]

    def _texture(self, picture: np.ndarray | None) -> Any:
        """The picture of a card, decoded from sRGB as it is sampled; kept while it is in use."""
        if picture is None:
            return self.no_picture
        found = self._pictures.pop(id(picture), None)
        if found is None or found[0] is not picture:
            texture = self.gl.texture(picture.shape[1::-1], 4, np.ascontiguousarray(picture).tobytes(), internal_format=SRGB8_ALPHA8)
            texture.build_mipmaps()
            texture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
            texture.repeat_x = texture.repeat_y = False
            texture.anisotropy = 8.0
            found = (picture, texture)
        self._pictures[id(picture)] = found
        while len(self._pictures) > MOST_PICTURES:
            self._pictures.pop(next(iter(self._pictures)))[1].release()
        return found[1]

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

    def render(self, items: list[Item], view: View, lamp: Lamp, samples: int, shutter: float, check: Callable[[], None] = lambda: None) -> Drawn:
        """The drawn items and their shadow on those that receive it, from `samples` sub-frames. `check` is called before each and may raise."""
        with self.gl:  # a thread may have several renderers; each draws in its own context
            return self._rendered(items, view, lamp, samples, shutter, check)

    def _rendered(self, items: list[Item], view: View, lamp: Lamp, samples: int, shutter: float, check: Callable[[], None]) -> Drawn:
        self._buffers(view.width, view.height)
        part = (0, 0, view.width, view.height)
        if samples == 1:
            check()
            self._sub_frame(items, view, lamp, 0, 1, shutter)
            self._finish()
            return Drawn(*(self._read(self.once, k, "f2") for k in (0, 1)))
        gl = self.gl
        self.all.use()
        self.all.clear()
        for number in range(samples):
            check()
            self._sub_frame(items, view, lamp, number, samples, shutter)
            # the software driver works when its result is asked for; asked for here it does so without the interpreter lock,
            # which a draw call that reads the result would hold (gaps of 250 ms in the window, measured)
            self._finish()
            gl.disable(moderngl.DEPTH_TEST)
            gl.enable(moderngl.BLEND)
            gl.blend_func = moderngl.ONE, moderngl.ONE
            self.all.use()
            gl.viewport = part
            for unit, texture in enumerate(self.once_textures):
                texture.use(unit)
            self._set(self.sum, colours=0, lights=1, share=1.0 / samples)
            self.sum_triangle.render(moderngl.TRIANGLES, vertices=3)
            gl.disable(moderngl.BLEND)
            self._finish()
        return Drawn(*(self._read(self.all, k, "f4") for k in (0, 1)))

    def _read(self, buffer: Any, attachment: int, dtype: str) -> np.ndarray:
        """(height, width, 4) float32 of the part that was drawn."""
        _, _, width, height = self._part
        return np.frombuffer(buffer.read(self._part, 4, attachment=attachment, dtype=dtype), dtype).reshape(height, width, 4).astype("f4", copy=False)

    def _sub_frame(self, items: list[Item], view: View, lamp: Lamp, number: int, samples: int, shutter: float) -> None:
        gl, u = self.gl, sample(number)
        many = samples > 1
        moment = shutter * ((number + 0.5) / samples - 0.5)
        placed = [(item, item.model(moment)) for item in items]
        drawn = [(item, model) for item, model in placed if item.drawn]
        stand_ins = [(item, model) for item, model in placed if not item.drawn]
        centre, radius = bounds([i for i, _ in drawn or placed], [m for _, m in drawn or placed])
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
        threshold = float((number + 0.5) / samples) if many else -1.0
        gl.enable(moderngl.DEPTH_TEST)
        gl.disable(moderngl.BLEND)
        sun_map, sun_buffer, texels = (self.sun_map, self.sun_buffer, SUN_MAP) if many else (self.draft_sun_map, self.draft_sun_buffer, DRAFT_SUN_MAP)
        self._depth(sun_buffer, sun_view, drawn, threshold)
        if many:
            self._depth(self.sky_buffer, sky_view, drawn, threshold)
        self._finish()
        R, t, zoom = view.pose(moment)
        eye = -R.T @ t
        near, far = _depth_range(placed, R, t, radius)
        jitter = (u[0] - 0.5, u[1] - 0.5) if many else (0.0, 0.0)
        camera = camera_matrix(R, t, zoom, view, jitter, near, far)
        self._part = (0, 0, view.width, view.height)
        sun_map.use(0)
        self.sky_map.use(1)
        self.mirror.use(3)
        bounce = 0.30 * (lamp.sun * max(sun[2], 0.0) + lamp.sky)
        self._set(
            self.paint,
            sun=sun,
            sun_light=lamp.sun,
            sky_light=lamp.sky,
            ground_light=bounce,
            sun_map=0,
            sky_map=1,
            picture=2,
            mirror=3,
            sun_view=sun_view,
            sky_view=sky_view,
            sky_shadow=many,
            sky_from=sky,
            sun_bias=2.2 * radius / texels,
            threshold=threshold,
        )
        self._aim(self.once, camera, eye)
        for item, model in drawn:
            self._draw(item, model)
        for item, model in sorted(stand_ins, key=lambda s: not (s[0].hides or s[0].reflects)):
            if item.reflects and drawn:
                blur = item.roughness**2 * 0.5 if many else 0.0
                self._reflect(item, model, drawn, camera, eye, blur, _disc(u[5], u[2]))
                self._aim(self.once, camera, eye, clear=False)
            # a mere receiver is seen through: it takes the shadow, and leaves our own layers behind it alone
            self.once.color_mask = ((True,) * 4 if item.hides or item.reflects else (False,) * 4, (True,) * 4)  # type: ignore[assignment]
            self._draw(item, model)
        self.once.color_mask = ((True,) * 4, (True,) * 4)  # type: ignore[assignment]

    def _aim(self, buffer: Any, camera: np.ndarray, eye: np.ndarray, clear: bool = True, beyond: np.ndarray | None = None) -> None:
        """Draw into `buffer` through a camera (4, 4) from here on; only what lies on the front of the plane `beyond` (4,)."""
        buffer.use()
        self.gl.viewport = self._part  # the buffer is larger than the picture
        if clear:
            buffer.clear(0, 0, 0, 0, viewport=self._part)
        self._set(self.paint, view=camera, eye=eye, beyond=np.array([0, 0, 0, 1.0]) if beyond is None else beyond)

    def _draw(self, item: Item, model: np.ndarray, mirrored: bool = False) -> None:
        turn = np.linalg.inv(model[:3, :3]).T
        self._texture(item.picture if item.drawn else None).use(2)
        self._set(
            self.paint,
            model=model,
            turn=turn,
            catcher=not item.drawn,
            receives=item.receives,
            base=np.array(item.base),
            roughness=item.roughness,
            metal=item.metal,
            pictured=item.drawn and item.picture is not None,
            flat_sided=len(item.mesh.triangles) == 2 and item.drawn,
            mirrors=0.0 if item.drawn else item.reflects,
        )
        if not mirrored:  # what the mirror's plane cuts open shows its inside
            self._cull(item.mesh, "cw")  # rows run downward, which turns all triangles round
        self._arrays(item.mesh)[0].render()
        self.gl.disable(moderngl.CULL_FACE)

    def _reflect(
        self, item: Item, model: np.ndarray, drawn: list, camera: np.ndarray, eye: np.ndarray, blur: float, off: tuple[float, float]
    ) -> None:
        """What the item mirrors, into the mirror's buffer: everything drawn, as seen from the eye behind the mirror."""
        point, normal = upper_plane(item.mesh, model)
        if (eye - point) @ normal < 0:
            normal = -normal
        axes = _axes(normal)
        normal = normal + blur * (off[0] * axes[0] + off[1] * axes[1])
        normal /= np.linalg.norm(normal)
        turn_over = np.eye(4)
        turn_over[:3, :3] -= 2 * np.outer(normal, normal)
        turn_over[:3, 3] = 2 * (point @ normal) * normal
        self.gl.enable_direct(CLIP_DISTANCE)
        self._aim(self.mirrored, camera @ turn_over, turn_over[:3, :3] @ eye + turn_over[:3, 3], beyond=np.array([*normal, -(point @ normal)]))
        for other, placed in drawn:
            self._draw(other, placed, mirrored=True)
        self.gl.disable_direct(CLIP_DISTANCE)
        self._finish()

    def _depth(self, buffer: Any, view: np.ndarray, drawn: list[tuple[Item, np.ndarray]], threshold: float) -> None:
        buffer.use()
        buffer.clear(depth=1.0)
        self._set(self.depth, view=view, picture=2, threshold=threshold)
        for item, model in drawn:
            self._texture(item.picture).use(2)
            self._set(self.depth, model=model, pictured=item.picture is not None)
            self._cull(item.mesh, "ccw")
            self._arrays(item.mesh)[1].render()
        self.gl.disable(moderngl.CULL_FACE)

    def _cull(self, mesh: Mesh, front: str) -> None:
        """Leave out what of a closed solid looks away: half of the triangles, which a software driver feels."""
        if mesh.closed:
            self.gl.front_face = front
            self.gl.enable(moderngl.CULL_FACE)
        else:
            self.gl.disable(moderngl.CULL_FACE)


def _depth_range(placed: list[tuple[Item, np.ndarray]], R: np.ndarray, t: np.ndarray, radius: float) -> tuple[float, float]:
    """Near and far plane that hold all items, and the ground round them on which long shadows lie."""
    depths = np.concatenate([(box_corners(i.mesh) @ m[:3, :3].T + m[:3, 3]) @ R[2] + t[2] for i, m in placed])
    far = max(float(depths.max()), 0.0) + 12 * radius + 100
    eye_height = abs(float(-(R.T @ t)[2]))
    return min(max(float(depths.min()) * 0.8, far * 1e-4, 0.01), max(0.02, eye_height * 0.2)), far
