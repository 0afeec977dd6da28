"""The Granite Ridge Hut Association: an invented scenario to try the service on."""
