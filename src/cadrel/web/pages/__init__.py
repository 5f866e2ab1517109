"""One module per part of the site: each view parses a request, calls one action, answers. No view calls another."""
