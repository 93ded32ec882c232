"""A reply's bytes as a document: decoding, the tree, expressions, text as a reader sees it."""
