"""ZIP archives and the document packages built on them."""
