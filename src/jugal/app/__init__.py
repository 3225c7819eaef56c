"""The window. The only package that knows Qt."""
