"""Snapshots, history, restore and undo on real files."""

from __future__ import annotations

import os
import shutil

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from good_tide.core.identifiers import local_name
from good_tide.core.name_query import NameQuery, parse_query
from good_tide.operations.history.path_history import path_history
from good_tide.operations.stores.opening import synced_catalog
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest


class HistoryTest(GoodTideTest):
    def test_versions_tell_when_a_file_stood_and_went(self) -> None:
        store = self.new_store()
        states = {0: "a", 1: "a", 2: "b", 3: None, 4: "a"}
        for hour, content in states.items():
            path = self.work / "plan.txt"
            path.write_text(content) if content else path.unlink()
            self.snap(store, hour)
        catalog, _ = synced_catalog(store, self.cache)
        found = path_history(catalog, os.fsencode(self.work / "plan.txt"), MACHINE.id)
        assert found is not None
        self.assertEqual(
            [(one.snapshots, (one.first_seen - T0) // HOUR) for one in found.versions],
            [(2, 0), (1, 2), (1, 4)],
        )
        self.assertIsNone(found.gone_since)
        (self.work / "plan.txt").rename(self.work / "new plan.txt")
        self.snap(store, 5)
        catalog.sync(store)
        gone = path_history(catalog, os.fsencode(self.work / "plan.txt"), MACHINE.id)
        assert gone is not None and gone.gone_since is not None
        self.assertEqual((gone.gone_since - T0) // HOUR, 5)
        spans = catalog.lifelines(catalog.folder(MACHINE.id, os.fsencode(self.work)) or 0)
        renamed = catalog.same_content(MACHINE.id, spans[0].spans[0].identity, [6])
        self.assertIn(os.fsencode(self.work / "new plan.txt"), renamed)
        names = catalog.find(MACHINE.id, NameQuery(parse_query("PL NEW")), 10).folders
        self.assertEqual([folder.path for folder in names], [os.fsencode(self.work)])
        self.assertEqual([line.name for line in names[0].lines], [b"new plan.txt"])
        catalog.close()

    @settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
    @given(
        st.lists(
            st.dictionaries(
                st.sampled_from(["a", "b", "d/a", "d/b", "d/e/c"]), st.sampled_from(["1", "2"]), max_size=5
            ),
            min_size=1,
            max_size=6,
        )
    )
    def test_lifelines_equal_an_obvious_model_and_the_catalog_is_only_a_cache(
        self, states: list[dict[str, str]]
    ) -> None:
        case = self.folder / f"case{len(list(self.folder.iterdir()))}"
        work = case / "work"
        store = self.new_store(f"{case.name}/store", None)
        for hour, state in enumerate(states):
            shutil.rmtree(work, ignore_errors=True)
            work.mkdir()
            for name, content in state.items():
                (work / name).parent.mkdir(parents=True, exist_ok=True)
                (work / name).write_text(content)
            self.snap(store, hour, MACHINE, None, work)
        for _ in range(2):
            catalog, damage = synced_catalog(store, case)
            self.assertEqual(damage, [])
            for name in ("a", "b", "d/a", "d/b", "d/e/c"):
                expected = [state.get(name) for state in states]
                found = path_history(catalog, os.fsencode(work / name), MACHINE.id)
                runs = [
                    content
                    for number, content in enumerate(expected)
                    if content is not None and (number == 0 or expected[number - 1] != content)
                ]
                self.assertEqual(len(found.versions) if found else 0, len(runs))
                self.assertEqual(
                    sum(one.snapshots for one in found.versions) if found else 0,
                    sum(content is not None for content in expected),
                )
            catalog.close()
            shutil.rmtree(case / local_name(store.header.store))
