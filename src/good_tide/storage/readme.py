"""What lies on every store for people without this program."""

README_TEXT = """This folder is a Good Tide store: point-in-time snapshots of somebody's files.

Do not change, rename or delete anything in it by hand: every file is needed.

To look into it and take files out, install Good Tide and point it at this folder.
Without Good Tide: the script recover.py needs only Python 3.9 or newer, with the packages "cryptography" and
"zstandard" (and "argon2-cffi" beside an older "cryptography"; it says what to install). It lists and extracts
every snapshot, and finds names in all of them:

    python3 recover.py --store THIS_FOLDER list
    python3 recover.py --store THIS_FOLDER find WORD
    python3 recover.py --store THIS_FOLDER extract SNAPSHOT TARGET_FOLDER

It asks for the passphrase, or for the recovery key that was shown when this store was made.

A copy of the script lies in this folder. Whoever could write to this disk could have changed it.
If that may be so, run another copy: any machine with Good Tide writes one with
"good-tide store recovery-script FILE", and it is in the program's source as
src/good_tide/storage/recover.py. "good-tide verify" says whether the copy here is the true one.
"""
