"""The sheet: islands as they lie, the maps under them, and the hand that moves them."""
