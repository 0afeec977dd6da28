"""Plans a leg: job, live source and live target become data that any process can execute."""
