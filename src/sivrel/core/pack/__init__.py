"""Packs a scene with its lights into the arrays that kernels read. It is above lights and ways, since it must know them."""
