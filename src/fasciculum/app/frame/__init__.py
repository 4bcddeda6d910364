"""The frame about the views: stages, bundles, ledger, queue, search, files."""
