"""Streams under way: claimed by workers, followed in processes of their own."""
