"""The quiet moment, from an empty machine to the first snapshot: by command line, through the agent, and in
the window."""

from __future__ import annotations

from tests.support.base import REPOSITORY, GoodTideTest


class DocumentsTest(GoodTideTest):
    def test_the_examples_in_the_documents_are_what_the_program_reads(self) -> None:
        from good_tide.core.jobfile import parse_job_file
        from good_tide.core.rules import parse_rules

        for name, language, read in (
            ("coverage-rules.md", "rules", parse_rules),
            ("job-file.md", "toml", parse_job_file),
        ):
            text = (REPOSITORY / "docs" / name).read_text()
            blocks = [part.split("```")[0] for part in text.split(f"```{language}\n")[1:]]
            self.assertTrue(blocks, name)
            for block in blocks:
                read(block)
