"""One file for each check; each returns findings. `registry` lists them."""
