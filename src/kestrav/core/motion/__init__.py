"""From a document and times to poses."""
