"""The use cases: gather, lay out, bake, check, deliver. Each joins capabilities and knows no window."""
