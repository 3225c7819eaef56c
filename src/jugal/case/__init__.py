"""One case in one SQLite file: sources, files, findings, strips, thumbnails, repairs, deliveries."""
