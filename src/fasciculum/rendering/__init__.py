"""The picture of a model, off-screen: for the window, for tests without a monitor and for measuring likeness.

Imports no Qt. Where there is no GL at all, `Renderer` raises `NoGraphics` and everything else works.
"""
