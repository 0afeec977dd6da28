"""Workers: what they take from the queue, for which sites, and how one reaches the service by HTTPS alone."""
