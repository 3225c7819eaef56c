"""Made-up media for the demo case, the tests and the benches: drawn, sounded, encoded and harmed from code."""
