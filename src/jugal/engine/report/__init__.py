"""The case's report: plain words and pictures for the client, every finding for the file."""
