"""Passphrases: how strong one is, in words, and proposals of several words that a person can remember."""

from __future__ import annotations

import math
import secrets

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.core.words import number_words

_JUDGED_CHARACTERS = 72
"""The estimator's time grows fast with the length; what follows only makes it stronger."""

_PROPOSED_WORDS = 6

_WORDS = """
acorn almond amber anchor apple apron arbor arrow aspen atlas autumn awning bacon badge bagel baker bamboo
banjo barley barrel basin basket beach beacon beaver bellow bench berry birch bishop blanket blossom boat
bobbin bonnet border bottle bramble branch brass bread breeze brick bridge brook broom bucket buckle bugle
butter button cabin cable cactus camel candle canoe canvas canyon caper carbon cargo carpet carrot castle
cedar cello chalk charm cherry chess chestnut chimney cider circle clam clay cliff clock clover coast
cobalt cocoa comet compass copper coral cork cotton cradle crane crayon cricket crown crystal curtain
cushion cymbal daisy dancer dapple dawn delta desert dew diamond dinner dolphin donkey dragon drum dune
dusk eagle easel echo eclipse elbow elder ember engine ermine fabric falcon farmer feather fennel fern
ferry fiddle field fig finch flag flame flannel flint flute foam forest fossil fountain fox galley garden
garlic garnet gate gazelle ginger glacier glass globe glove goose grain granite grape gravel grove guitar
gull hammer hammock harbour harp harvest hazel heather hedge heron hickory hollow honey horizon hornet
hull iceberg indigo inlet iris iron island ivory ivy jacket jade jasmine jetty jewel jigsaw jungle juniper
kayak kelp kernel kettle kite kitten ladder lagoon lamp lantern larch lark lattice laurel lava leaf ledge
lemon lentil library lichen lilac lily lime linen lizard lobster locket lotus lumber lute lynx magnet
magnolia mallet mango mantle maple marble margin marsh meadow melon mineral mint mirror mitten moss motor
mountain muffin mural mustard nectar needle nettle nickel north nutmeg oak oasis oat ocean olive onyx opal
orange orbit orchard otter oven owl oyster paddle palette palm pansy paper parade parsley pastel pasture
patch path peach pearl pebble pelican pencil pepper petal piano pier pigeon pillow pine planet plaza plum
pocket pollen pond poplar poppy porch prairie prism puddle pumpkin quarry quartz quill quilt rabbit radish
raft rain ranch raven reed reef ribbon ridge river robin rocket roof rope rose ruby rudder saddle saffron
sail salmon salt sandal sapphire satin saucer scarf school scone seal seed shadow shell shore silk silver
sketch slate sleet slope snow sparrow spice spindle spring spruce stable starling station steeple stone
storm stove straw stream summer summit sunset swan tablet tangerine tassel teapot temple thicket thimble
thistle thunder tide tiger timber toast topaz torch tower trail trellis trumpet tulip tunnel turnip turtle
twig umbrella valley vanilla velvet vessel village violet violin walnut walrus water wattle wave weasel
whale wheat whistle willow window winter wolf wonder woodland wool wren yarrow yeast zebra zephyr zinc
""".split()  # noqa: SIM905 (one word a line would be four hundred lines)

_BIT_SECONDS = 0.3
"""About what one try costs an attacker's machine too, by the store's key derivation; taken for the time in
words."""


class Strength(msgspec.Struct, frozen=True):
    """How strong a passphrase is: 0 (none) to 4 (very), in words, with advice where it helps."""

    score: int
    words: str
    advice: str = ""


_LONGEST_PASSPHRASE = 1000


def judge(passphrase: str, known: tuple[str, ...] = ()) -> Strength:
    """Judge a passphrase with the estimator zxcvbn (Wheeler 2016).

    :param known: words an attacker would try first: the person's name, the machine's, the hint.
    """
    from zxcvbn import zxcvbn  # its word lists take a tenth of a second to load; only a set-up needs them

    if not passphrase:
        return Strength(0, tr("Nothing typed yet"))
    found = zxcvbn(passphrase[:_JUDGED_CHARACTERS], user_inputs=[word for word in known if word])
    score = int(found["score"])
    bits = math.log2(max(1.0, float(found["guesses"])))
    titles = (tr("Very weak"), tr("Weak"), tr("Fair"), tr("Good"), tr("Strong"))
    words = tr("{titles}: {time_words} to guess with one fast machine").format(
        titles=titles[score], time_words=_time_words(2 ** (bits - 1) * _BIT_SECONDS)
    )
    feedback = found["feedback"]
    advice = [str(feedback["warning"]), *map(str, feedback["suggestions"])] if score < 3 else []
    plain = " ".join(part.rstrip(".") + "." for part in advice if part)
    if score < 3:
        plain = (
            tr("{plain} Several words that have nothing to do with each other are best.")
            .format(plain=plain)
            .strip()
        )
    return Strength(score, words, plain)


def _time_words(seconds: float) -> str:
    for unit, length in (("year", 31_557_600), ("day", 86400), ("hour", 3600), ("minute", 60)):
        if seconds >= length:
            count = seconds / length
            if unit == "year" and count >= 1000:
                return tr("thousands of years") if count < 1e6 else tr("millions of years")
            return tr("about {count:,.0f} {unit}{words}").format(
                count=count, unit=unit, words="" if round(count) == 1 else "s"
            )
    return "seconds"


def propose() -> str:
    """A passphrase of six random words: about 52 bits, which Argon2id makes costly to try."""
    return " ".join(secrets.choice(_WORDS) for _ in range(_PROPOSED_WORDS))


def proposal_bits() -> float:
    """Bits of chance in a proposal."""
    return _PROPOSED_WORDS * math.log2(len(_WORDS))


def gives_away(hint: str, passphrase: str) -> bool:
    """Whether a hint contains the passphrase, however it is spaced or capitalised."""

    def bare(text: str) -> str:
        return "".join(character for character in text.casefold() if character.isalnum())

    return bool(bare(passphrase)) and bare(passphrase) in bare(hint)


def check_passphrase(passphrase: str, hint: str) -> None:
    """Refuse a passphrase that is none, is longer than anybody types, or that its hint gives away.

    Raises:
        PersonError: one of these.
    """
    if not passphrase:
        raise PersonError(
            tr("The passphrase is empty"), tr("Choose several words, or ask for a store without encryption")
        )
    if len(passphrase) > _LONGEST_PASSPHRASE:
        raise PersonError(
            tr("The passphrase has {passphrase} characters").format(passphrase=number_words(len(passphrase))),
            tr("Choose one of at most {LONGEST_PASSPHRASE}, so that it can be typed again").format(
                LONGEST_PASSPHRASE=number_words(_LONGEST_PASSPHRASE)
            ),
        )
    if gives_away(hint, passphrase):
        raise PersonError(
            tr("The hint contains the passphrase"),
            tr("Choose a hint that only helps someone who knows it; it can be read by everybody"),
        )
