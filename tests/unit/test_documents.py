"""What the documents say is what the program takes: examples, and every command with its options."""

from __future__ import annotations

import re

import click

from good_tide.cli.main import cli
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

    def test_every_command_and_option_in_the_documents_is_there(self) -> None:
        looked = 0
        for file in [REPOSITORY / "README.md", *sorted((REPOSITORY / "docs").glob("*.md"))]:
            for found in _COMMAND.finditer(file.read_text()):
                line = found[1].split("#")[0].replace("\\|", "|").strip()
                if line.startswith("good-tide parity"):
                    continue  # what the code of parity is seeded with, in the format's description
                with self.subTest(line, file=file.name):
                    self._check(line)
                looked += 1
        self.assertGreater(looked, 100)

    def _check(self, line: str) -> None:
        """Go down to the command that a line names, and see that it has the options."""
        command: click.Command = cli
        context = click.Context(cli)
        known = _options(cli)
        for word in re.sub(r"[\[\]()…{}|]", " ", line).split()[1:]:
            word = word.rstrip(",.;:")
            if word.startswith("--"):
                self.assertIn(word.split("=")[0], known | {"--help"})
            elif isinstance(command, click.Group):
                below = command.get_command(context, word)
                if below is None:
                    self.assertFalse(word.islower() and word.isalpha(), f"there is no command {word}")
                    break  # a place for a name, or for any command
                command = below
                known |= _options(command)


_COMMAND = re.compile(r"(?:^    |`)(good-tide [^`\n]*)", re.MULTILINE)


def _options(command: click.Command) -> set[str]:
    return {name for one in command.params for name in (*one.opts, *one.secondary_opts)}
