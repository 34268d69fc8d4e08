"""Going live, looking, and the certain end: an event on its way, and by the clock."""
