"""One file for each check; each declares what it looks at in a `Check`. `registry` finds them."""
