"""OpenUSD: stages into the model, deliveries as stages, packages, or layers upon the source."""
