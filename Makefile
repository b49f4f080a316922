# make demo   open the window on made-up history        make test    every check and test
# make bench  measure against the system's own tools    make check   format, lint, types, layers
# make quick  checks and unit tests, under two minutes      make coverage   what the tests reach
# make mutants  changes core and storage in small ways, to see whether a test notices
# make hooks  check before each commit                      make lock       exact versions, anew
# make words  all texts that people read, for who translates: build/good-tide.pot
# make install, make uninstall: for one person, below ~/.local; with the menu entry, manual page and completions
PYTHON ?= python3
BIN := .venv/bin
APP := $(HOME)/.local/lib/good-tide
PROGRAM := $(HOME)/.local/bin/good-tide
APT_NEEDED := libglib2.0-0 libfontconfig1 libdbus-1-3 libxkbcommon0 libegl1 libgl1
APT_TESTS := acl attr zstd openssl desktop-file-utils appstream dbus-daemon gnome-keyring systemd xvfb fuse3 libfuse3-3 libarchive-tools unzip openssh-server samba samba-common-bin nftables iproute2
APT_OPTIONAL := sshfs samba-vfs-modules
APT_MANAGERS := nautilus python3-nautilus nemo nemo-python caja python3-caja dolphin thunar pcmanfm-qt xdotool openbox
APT_WINDOW := libxcb-cursor0 libxkbcommon-x11-0 libxcb-icccm4 libxcb-keysyms1 libxcb-shape0

.PHONY: venv words pictures install uninstall demo test quick check bench coverage mutants hooks lock clean system-demo system-test system-managers

venv: .venv/ready

.venv/ready: pyproject.toml requirements.lock
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or newer is needed; set PYTHON=..."; exit 1; }
	@$(PYTHON) -m venv .venv || { echo "The Python module venv is missing: apt-get install python3-venv"; exit 1; }
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --editable .
	@touch $@

system-demo:
	@sh tools/system-packages $(APT_NEEDED) $(APT_WINDOW)

system-test:
	@sh tools/system-packages $(APT_NEEDED) $(APT_WINDOW) $(APT_TESTS)

# Where one of these cannot be had, its test is skipped by name.
system-managers:
	@sh tools/system-packages $(APT_MANAGERS) || echo "Tests of file managers that are not here are skipped."
	@sh tools/system-packages $(APT_OPTIONAL) || echo "Tests of mounted shares, and of shares that only add, are skipped."

demo: system-demo venv
	@$(BIN)/good-tide demo

check: venv
	$(BIN)/ruff format --check --quiet .
	$(BIN)/ruff check --quiet .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache > /dev/null || $(BIN)/lint-imports --no-cache
	desktop-file-validate src/good_tide/entry/org.goodtide.GoodTide.desktop
	appstreamcli validate --no-net --explain src/good_tide/entry/good-tide.metainfo.xml

test: system-test system-managers venv check
	$(BIN)/python tools/run_tests.py

quick: system-test venv check
	$(BIN)/python tools/run_tests.py --quick

bench: venv
	$(BIN)/python -m benchmarks.run
	$(BIN)/python -m benchmarks.changes
	$(BIN)/python -m benchmarks.growth

coverage: system-test venv
	$(BIN)/python tools/run_tests.py --coverage

mutants: .venv/dev
	$(BIN)/python tools/mutants.py $(PART)

hooks: .venv/dev
	$(BIN)/pre-commit install

.venv/dev: .venv/ready requirements-dev.lock
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements-dev.lock
	@touch $@

lock:
	@tools/lock

clean:
	rm -rf .venv build src/*.egg-info

words: venv
	@mkdir -p build && $(BIN)/python tools/words.py build/good-tide.pot

# Jobs, stores and snapshots are none of it: “good-tide uninstall” says what else is there.
install: system-demo
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or newer is needed; set PYTHON=..."; exit 1; }
	@$(PYTHON) -m venv $(APP) || { echo "The Python module venv is missing: apt-get install python3-venv"; exit 1; }
	@$(APP)/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements-run.lock
	@$(APP)/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --force-reinstall .
	@mkdir -p $(dir $(PROGRAM)) && ln -sfn $(APP)/bin/good-tide $(PROGRAM)
	@$(PROGRAM) install
	@case ":$$PATH:" in *":$(dir $(PROGRAM)):"*|*":$(patsubst %/,%,$(dir $(PROGRAM))):"*) ;; *) echo "Add $(dir $(PROGRAM)) to PATH to call it as good-tide.";; esac

uninstall:
	@$(PROGRAM) uninstall --take program --yes
	@rm -rf $(APP) $(PROGRAM)

# The README's pictures, from the demo made anew at a made-up home.
pictures: venv
	$(BIN)/python tools/pictures.py docs/screenshots
