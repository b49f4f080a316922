"""Folders on web servers: WebDAV and object storage."""
