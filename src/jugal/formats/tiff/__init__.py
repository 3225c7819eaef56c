"""TIFF structures: image file directories, and the Exif data written in them."""
