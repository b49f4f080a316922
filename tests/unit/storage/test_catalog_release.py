"""Releasing snapshots: the catalog afterwards, pins, thinning by the ladder, and the commands for it."""

from __future__ import annotations

import shutil

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from good_tide.core.history import Lifeline
from good_tide.core.identifiers import MachineId
from good_tide.operations.stores.opening import synced_catalog
from good_tide.storage.catalog import Catalog
from good_tide.storage.folders import SNAPSHOT_FOLDER
from tests.support.base import MACHINE, OTHER_MACHINE, GoodTideTest

_STATES = st.lists(
    st.dictionaries(
        st.sampled_from(["a", "b", "d/a", "d/b", "d/e/c"]), st.sampled_from(["1", "2"]), max_size=5
    ),
    min_size=2,
    max_size=8,
)


class CatalogReleaseTest(GoodTideTest):
    def lines(self, catalog: Catalog, machine: MachineId) -> dict[str, list[object]]:
        """All spans, by path."""
        found: dict[str, list[object]] = {}

        def visit(path: bytes, lifelines: list[Lifeline]) -> None:
            for line in lifelines:
                below = line.name if not path else path + b"/" + line.name
                found[below.decode()] = [
                    (span.kind, span.size, span.identity, span.first, span.last) for span in line.spans
                ]
                folder = catalog.folder(machine, below)
                if line.kind == "d" and folder is not None:
                    visit(below, catalog.lifelines(folder))

        visit(b"", catalog.roots(machine))
        return {path: spans for path, spans in found.items() if spans}

    @settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
    @given(_STATES, st.data())
    def test_as_if_the_released_had_never_been(
        self, states: list[dict[str, str]], data: st.DataObject
    ) -> None:
        case = self.folder / f"case{len(list(self.folder.iterdir()))}"
        work = case / "work"
        store = self.new_store(f"{case.name}/store", None)
        names = []
        for hour, state in enumerate(states):
            shutil.rmtree(work, ignore_errors=True)
            work.mkdir()
            for name, content in state.items():
                (work / name).parent.mkdir(parents=True, exist_ok=True)
                (work / name).write_text(content)
            names.append(self.snap(store, hour, MACHINE, None, work).id)
            self.snap(store, hour, OTHER_MACHINE, None, work)
        catalog, _ = synced_catalog(store, case)
        gone = data.draw(st.lists(st.sampled_from(names[:-1]), unique=True, min_size=1))
        for part in (gone[: len(gone) // 2], gone[len(gone) // 2 :]):
            for name in part:
                store.place.remove(f"{SNAPSHOT_FOLDER}/{name}")
            catalog.sync(store)
        fresh, _ = synced_catalog(store, case / "fresh")
        for machine in (MACHINE.id, OTHER_MACHINE.id):
            self.assertEqual(self.lines(catalog, machine), self.lines(fresh, machine))
            self.assertEqual(
                catalog.tide(machine), fresh.tide(machine), "with what each added, changed and removed"
            )
        self.snap(store, 20, MACHINE, None, work)
        catalog.sync(store)
        fresh.sync(store)
        self.assertEqual(self.lines(catalog, MACHINE.id), self.lines(fresh, MACHINE.id))
        catalog.close()
        fresh.close()
