"""Stores: where blobs and trees are. The local cache is one, and the only one that environments are placed from; any
other is a source of trees. How to write one stands in docs/stores.md."""
