"""What is known of each format: how to recognise, examine, score and repair it."""
