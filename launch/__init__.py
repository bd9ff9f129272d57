"""Setting up and starting Urst; standard library only, since it runs before anything is installed."""
