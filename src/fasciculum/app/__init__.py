"""The window: the only folder that imports Qt. Views show parts of the document and hand acts to the workspace."""
