# Run by a restored interpreter, not imported: compiles sources to byte-code. Standard library only.
# Standard input: one JSON list [source, name to show, size, target] a line. Standard output: a line for each
# that was compiled or, empty, that could not be (a template, code for another version).
import importlib.util
import json
import marshal
import sys
import warnings

warnings.simplefilter("ignore")
TIME = int(sys.argv[1])
for line in sys.stdin:
    source, name, size, target = json.loads(line)
    try:
        with open(source, "rb") as stream:
            code = compile(stream.read(), name, "exec", dont_inherit=True)
        # PEP 552: magic number, flags 0, modification time and size of the source.
        head = importlib.util.MAGIC_NUMBER + b"".join(
            (number & 0xFFFFFFFF).to_bytes(4, "little") for number in (0, TIME, size)
        )
        with open(target, "wb") as stream:
            stream.write(head + marshal.dumps(code))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        target = ""
    sys.stdout.write(target + "\n")
    sys.stdout.flush()
