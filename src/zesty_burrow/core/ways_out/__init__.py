"""All ways by which packets can leave a machine, derived from its rules, routes and packet filter: no sampling."""
