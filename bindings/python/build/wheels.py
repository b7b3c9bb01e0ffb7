"""Builds the wheel of this folder with the standard library alone, as PEP 517 asks, so that pip
needs nothing from anywhere.
"""

import base64
import hashlib
import pathlib
import zipfile

ROOT = pathlib.Path(__file__).resolve().parent.parent
NAME, VERSION = "kembrel", "1.0"
METADATA = f"""Metadata-Version: 2.1
Name: {NAME}
Version: {VERSION}
Summary: Records training runs of machine-learning models with Kembrel
Requires-Python: >=3.9
"""


def build_wheel(wheel_directory, config_settings=None, metadata_directory=None):
    info = f"{NAME}-{VERSION}.dist-info"
    files = {f"{NAME}/{p.name}": p.read_bytes() for p in sorted((ROOT / NAME).glob("*.py"))}
    files[f"{NAME}/py.typed"] = b""
    files[f"{info}/METADATA"] = METADATA.encode()
    files[
        f"{info}/WHEEL"
    ] = b"Wheel-Version: 1.0\nGenerator: kembrel\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    record = ""
    for path, content in files.items():
        digest = base64.urlsafe_b64encode(hashlib.sha256(content).digest()).rstrip(b"=").decode()
        record += f"{path},sha256={digest},{len(content)}\n"
    files[f"{info}/RECORD"] = (record + f"{info}/RECORD,,\n").encode()
    name = f"{NAME}-{VERSION}-py3-none-any.whl"
    with zipfile.ZipFile(pathlib.Path(wheel_directory) / name, "w", zipfile.ZIP_DEFLATED) as wheel:
        for path, content in files.items():
            wheel.writestr(path, content)
    return name
