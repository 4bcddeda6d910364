"""Wavefront OBJ with MTL: reading into the model, writing what is delivered."""
