"""What the API answers, a module a resource."""
