"""Rays against triangles: the tree, what a ray meets, what is found there, and what is counted from many."""
