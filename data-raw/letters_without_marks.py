# Writes src/kernel/base/letters_without_marks.inc: each letter of the Unicode Character Database that is another one with marks (its canonical
# decomposition is a letter and marks of the blocks below), and that other one. Run with: python3 data-raw/letters_without_marks.py
import sys
import unicodedata

mark_ranges = [(0x0300, 0x036F), (0x0591, 0x05BD), (0x05BF, 0x05BF), (0x05C1, 0x05C2), (0x05C4, 0x05C5), (0x05C7, 0x05C7), (0x064B, 0x065F),
               (0x0670, 0x0670), (0x1AB0, 0x1AFF), (0x1DC0, 0x1DFF), (0x20D0, 0x20FF), (0xFE20, 0xFE2F)]


def is_mark(letter):
    return any(low <= ord(letter) <= high for low, high in mark_ranges)


pairs = []
for code in range(0x80, sys.maxunicode + 1):
    whole = unicodedata.normalize("NFD", chr(code))
    bare = [letter for letter in whole if not is_mark(letter)]
    if len(bare) < len(whole) and len(bare) == 1:
        pairs.append((code, ord(bare[0])))

with open("src/kernel/base/letters_without_marks.inc", "w") as out:
    out.write(f"// Made by data-raw/letters_without_marks.py from Unicode {unicodedata.unidata_version}.\n")
    for start in range(0, len(pairs), 6):
        out.write(" ".join(f"{{{code:#x}, {bare:#x}}}," for code, bare in pairs[start:start + 6]) + "\n")
print(len(pairs))
