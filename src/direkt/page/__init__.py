"""The watch as a web page: a view for a phone or a laptop, /now for viewers, and figures for a scraper."""
