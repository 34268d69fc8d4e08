"""Events at a platform: what an event is to be, when it takes place, and how platforms are told."""
