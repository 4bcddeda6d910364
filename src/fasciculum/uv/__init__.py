"""Islands, projections, density and stretch: from source UVs to flat surfaces that can be packed."""
