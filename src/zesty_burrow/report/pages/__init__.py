"""Pages for browsers and paper: each one file, with no script and no request."""
