"""A scene with its lights turned into the arrays that kernels read: above lights and ways, which it has to know."""
