"""The folders of a store. ``docs/format.md`` ("Files") says what is in them."""

INDEX_FOLDER = "index"
SNAPSHOT_FOLDER = "snapshots"
PACK_FOLDER = "packs"
