"""Sound as its curve."""

from __future__ import annotations

import wave

import numpy as np
import numpy.typing as npt

from good_tide.core.previews import Preview, SoundPreview
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words
from good_tide.viewing.content import Content, Unreadable

_COLUMNS = 600


class SoundReader:
    """Uncompressed sound (RIFF WAVE with linear samples)."""

    limit = 64 << 20

    def matches(self, name: str, head: bytes) -> bool:
        return head.startswith(b"RIFF") and head[8:12] == b"WAVE"

    def preview(self, content: Content) -> Preview:
        try:
            with wave.open(content.stream()) as sound:
                channels, width, rate = sound.getnchannels(), sound.getsampwidth(), sound.getframerate()
                if not channels or not rate:
                    raise Unreadable("The sound file names no channels, or no rate.")
                claimed = sound.getnframes()
                frames = sound.readframes(claimed)
        except (wave.Error, EOFError) as error:
            raise Unreadable("The sound file is damaged, or of a kind that cannot be shown.") from error
        samples = _samples(frames, width)
        count = samples.size // channels
        there = (content.size - (len(content.data) - len(frames))) // (channels * width)
        seconds = max(count, min(claimed, there)) / rate
        low, high = _curve(samples[: count * channels].reshape(count, channels))
        facts = tr("{rate} Hz, {value} bit, {channels}").format(
            rate=number_words(rate), value=8 * width, channels=count_words(channels, "channel")
        )
        return SoundPreview(seconds, facts, low, high, cut=count < seconds * rate - 1)


def _samples(frames: bytes, width: int) -> npt.NDArray[np.float32]:
    """The samples from -1 to 1: unsigned for one byte, signed little-endian for more."""
    whole = frames[: len(frames) // width * width]
    if width == 1:
        return (np.frombuffer(whole, np.uint8).astype(np.float32) - 128) / np.float32(128)
    if width == 3:
        parts = np.frombuffer(whole, np.uint8).reshape(-1, 3).astype(np.int32)
        joined = parts[:, 0] | parts[:, 1] << 8 | parts[:, 2] << 16
        return ((joined ^ 0x800000) - 0x800000).astype(np.float32) / np.float32(1 << 23)
    if width in (2, 4):
        return np.frombuffer(whole, f"<i{width}").astype(np.float32) / np.float32(1 << (8 * width - 1))
    raise Unreadable("The sound file is of a kind that cannot be shown.")


def _curve(frames: npt.NDArray[np.float32]) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """The lowest and the highest of each stretch, over all channels."""
    if not len(frames):
        return (), ()
    starts = np.unique(np.linspace(0, len(frames), _COLUMNS, endpoint=False).astype(np.int64))
    low = np.minimum.reduceat(frames.min(axis=1), starts)
    high = np.maximum.reduceat(frames.max(axis=1), starts)
    return tuple(np.round(low, 4).tolist()), tuple(np.round(high, 4).tolist())
