"""glTF 2.0, as .gltf and as .glb: reading into the model, writing what is delivered."""
