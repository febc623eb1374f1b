"""FastAPI over the services: thin. Per noun a router and its models."""
