"""How materials are treated on a sheet: baked as islands, or on patches of their own, or kept apart.

What stands here turns a bundle with ways into one without: objects without what is not laid out as islands, and beside
them patches, each a square of one material that others read through UVs of their own. Packing, baking and checking work
on that and know no ways. What each way costs stands in `fasciculum.operations.plan`.
"""
