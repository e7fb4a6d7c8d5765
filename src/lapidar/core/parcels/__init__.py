"""Parcels: snapshots and the trees they stand for as OCI manifests and blobs, wherever these lie: docs/parcel.md."""
