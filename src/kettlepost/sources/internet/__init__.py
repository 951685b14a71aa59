"""What the world says: names, certificates, what servers show, what registries know."""
