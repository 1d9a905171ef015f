"""The sample project: the Harrowmere Light Railway in three environments, with a little server."""
