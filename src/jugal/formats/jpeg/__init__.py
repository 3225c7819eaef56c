"""JPEG still pictures (ITU-T T.81, JFIF, Exif)."""
