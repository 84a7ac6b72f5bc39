"""The parts of a glTF 2.0 file that are read, by the specification (Khronos, glTF 2.0.1); anything else is ignored or noted.

Every index is checked where it is used; every size is bounded by the file's bytes.
"""

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

Index = Annotated[int, Field(ge=0)]
Finite = Annotated[float, Field(allow_inf_nan=False)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="ignore")
    name: str = ""
    extensions: dict[str, Any] = {}


class Asset(_Part):
    version: str


class Buffer(_Part):
    byteLength: Index
    uri: str | None = None


class BufferView(_Part):
    buffer: Index
    byteLength: Index
    byteOffset: Index = 0
    byteStride: Annotated[int, Field(ge=4, le=252)] | None = None


class SparsePart(_Part):
    bufferView: Index
    byteOffset: Index = 0
    componentType: int = 5126


class Sparse(_Part):
    count: Index
    indices: SparsePart
    values: SparsePart


class Accessor(_Part):
    componentType: int
    count: Index
    type: str
    bufferView: Index | None = None
    byteOffset: Index = 0
    normalized: bool = False
    sparse: Sparse | None = None


class Primitive(_Part):
    attributes: dict[str, Index]
    indices: Index | None = None
    material: Index | None = None
    mode: int = 4
    targets: list[Any] = []


class Mesh(_Part):
    primitives: list[Primitive]


class TextureInfo(_Part):
    index: Index
    texCoord: Index = 0
    scale: Finite = 1.0


class Metal(_Part):
    baseColorFactor: tuple[Finite, Finite, Finite, Finite] = (1.0, 1.0, 1.0, 1.0)
    baseColorTexture: TextureInfo | None = None
    metallicFactor: Finite = 1.0
    roughnessFactor: Finite = 1.0
    metallicRoughnessTexture: TextureInfo | None = None


class Material(_Part):
    pbrMetallicRoughness: Metal = Metal()
    normalTexture: TextureInfo | None = None
    emissiveFactor: tuple[Finite, Finite, Finite] = (0.0, 0.0, 0.0)
    emissiveTexture: TextureInfo | None = None
    alphaMode: str = "OPAQUE"
    alphaCutoff: Finite = 0.5
    doubleSided: bool = False


class Texture(_Part):
    source: Index | None = None
    sampler: Index | None = None


class Sampler(_Part):
    wrapS: int = 10497
    wrapT: int = 10497


class Image(_Part):
    uri: str | None = None
    bufferView: Index | None = None


class Perspective(_Part):
    yfov: Annotated[Finite, Field(gt=0.0)]
    aspectRatio: Annotated[Finite, Field(gt=0.0)] | None = None


class Orthographic(_Part):
    xmag: Finite


class Camera(_Part):
    type: str
    perspective: Perspective | None = None
    orthographic: Orthographic | None = None


class Node(_Part):
    children: list[Index] = []
    mesh: Index | None = None
    camera: Index | None = None
    skin: Index | None = None
    matrix: Annotated[list[Finite], Field(min_length=16, max_length=16)] | None = None
    translation: tuple[Finite, Finite, Finite] = (0.0, 0.0, 0.0)
    rotation: tuple[Finite, Finite, Finite, Finite] = (0.0, 0.0, 0.0, 1.0)
    scale: tuple[Finite, Finite, Finite] = (1.0, 1.0, 1.0)


class Scene(_Part):
    nodes: list[Index] = []


class Gltf(_Part):
    asset: Asset
    buffers: list[Buffer] = []
    bufferViews: list[BufferView] = []
    accessors: list[Accessor] = []
    meshes: list[Mesh] = []
    materials: list[Material] = []
    textures: list[Texture] = []
    samplers: list[Sampler] = []
    images: list[Image] = []
    cameras: list[Camera] = []
    nodes: list[Node] = []
    scenes: list[Scene] = []
    scene: Index = 0
    animations: list[Any] = []
    extensionsUsed: list[str] = []
    extensionsRequired: list[str] = []
