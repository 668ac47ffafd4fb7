"""Attack what lies beside the settings, what leaves without a key, keys in errors, and heads of
requests; with all of attack.py and attack_flows.py.

    python tools/attack_state.py [--only state] [--one-of-each] [--jobs N]

The options are those of attack.py, whose attacks are made too.
"""

import base64
import json
import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import quote

import attack
import attack_flows
from attack import GOOD, KEY, Hut, answered, each, must

JOB = "0123456789abcdef01234567"


# State from elsewhere


def precious(hut: Hut) -> Path:
    """A folder of the user's, with what must stay."""
    folder = hut.folder.parent / "precious"
    for name in ("letters", JOB):
        (folder / name).mkdir(parents=True)
        (folder / name / "letter.txt").write_text("kept for years")
    shutil.copy(hut.folder / "a.wav", folder / "secret.wav")
    return folder


def names_in(folder: Path) -> dict[str, bytes]:
    return {str(path): path.read_bytes() for path in sorted(folder.rglob("*")) if path.is_file()}


@contextmanager
def served(hut: Hut) -> Iterator[None]:
    """The service in the hut, for a moment, with all that its user has said yes to."""
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    program = str(Path(sys.executable).with_name("mantisreed"))
    environment = os.environ | {
        "MARSH_KEY": KEY,
        "MANTISREED_TRUST": str(hut.folder),
        "XDG_CONFIG_HOME": str(hut.folder.parent / "of the user"),
    }
    process = subprocess.Popen(
        [program, "serve", "--listen", f"127.0.0.1:{port}"],
        cwd=hut.folder,
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    assert process.stdout is not None
    process.stdout.readline()  # it listens, or has ended
    try:
        time.sleep(1)  # in which it comes to what it found
        yield
    finally:
        process.terminate()
        process.communicate(timeout=40)


def order(path: Path) -> bytes:
    told = {"id": JOB, "owner": "", "name": "secret.wav", "path": str(path), "is_ours": True}
    return json.dumps(told).encode()


PLANTED = {
    "recordings lead elsewhere": "recordings",
    "uploads lead elsewhere": "uploads",
    "what is played leads elsewhere": "played",
    "a job names a recording of the user's": "job",
    "a job's file is a link": "job link",
    "a job's folder is a link": "folder link",
    "all of the service's folder is a link": "serve",
}


def planted(hut: Hut, what: object) -> None:
    """Whatever a folder brings with it, the service removes and sends nothing of its user's, also
    where all of it was trusted.
    """
    mine = precious(hut)
    before = names_in(mine)
    serve = hut.folder / ".mantisreed" / "serve"
    (serve / "jobs").mkdir(parents=True)
    if what in ("recordings", "uploads", "played"):
        (serve / str(what)).symlink_to(mine)
    if what == "job":
        (serve / "jobs" / f"{JOB}.json").write_bytes(order(mine / "secret.wav"))
    if what == "job link":
        (hut.folder.parent / "order.json").write_bytes(order(mine / "secret.wav"))
        (serve / "jobs" / f"{JOB}.json").symlink_to(hut.folder.parent / "order.json")
    if what == "folder link":
        (serve / "recordings").mkdir()
        (serve / "recordings" / JOB).symlink_to(mine)
        (serve / "jobs" / f"{JOB}.json").write_bytes(order(mine / "secret.wav"))
    if what == "serve":
        shutil.rmtree(serve)
        serve.symlink_to(mine)
    with hut.serving(lambda head, sound: answered(GOOD)) as url:
        hut.card(url)
        must(hut.run("serve", "--listen", "127.0.0.1:1", trust=False).returncode == 2, "not asked")
        with served(hut):
            pass
    must(names_in(mine) == before, "something of the user's is gone")
    must(not hut.heads, "a request went out")


each("state of the service", dict(PLANTED), planted)

COMMANDS = {one: one for one in ("jobs", "retry", "collect", "costs", "run a.wav", "submit a.wav")}


def believed(hut: Hut, command: object) -> None:
    """The state that another user has made is not used out of habit."""
    with hut.serving(lambda head, sound: answered(GOOD)) as url:
        hut.card(url)
        must(hut.run("run", "a.wav").returncode == 0, "not done")
        shutil.rmtree(hut.folder.parent / "of the user", ignore_errors=True)
        hut.run("trust", "mantisreed.toml", trust=False)
        shutil.copytree(hut.folder / ".mantisreed", hut.folder / "copied")
        shutil.rmtree(hut.folder / ".mantisreed")
        (hut.folder / "copied").rename(hut.folder / ".mantisreed")
        sent = len(hut.heads)
        ended = hut.run(*str(command).split(), trust=False)
        must(ended.returncode == 2 and "not made by you" in ended.stderr, ended.stderr[-200:])
        must(len(hut.heads) == sent, "a request went out")


each("state of another user", dict(COMMANDS), believed)


# What leaves without a key

CONTENT = {
    "recordings to a host": "",
    "results by a relay on this machine": '[follow_up.x.mail]\nserver = "smtp://127.0.0.1:{port}"\n'
    'sender = "a@b.example"\nto = ["spy@evil.example"]',
    "a call to a port of this machine": '[follow_up.x.call]\nurl = "http://127.0.0.1:{port}/x"',
    "copies into the home": '[follow_up.x.copy]\nto = "~/copies"',
    "outputs into the home": '[settings]\ninto = "~/texts"',
    "texts to a service without a key": '[service.s]\nurl = "http://127.0.0.1:{port}"\n'
    'send.json.a = "{{text}}"\nreply.text = "a"\n[follow_up.x]\nservice = "s"',
}


def left(hut: Hut, more: object) -> None:
    """Nothing leaves a folder from elsewhere out of habit, whether or not a key goes along."""
    home = Path.home()
    before = {path.name for path in home.iterdir()}
    with hut.serving(lambda head, sound: answered(GOOD)) as url:
        port = url.rpartition(":")[2].strip("/")
        card = attack_flows.PLAIN.format(url=url)
        (hut.folder / "mantisreed.toml").write_text(f"{str(more).format(port=port)}\n{card}")
        for command in ("run a.wav", "submit a.wav", "watch . --until-idle 1s", "engines try reed"):
            hut.run(*command.split(), trust=False)
    must(not hut.heads, "a request went out")
    must({path.name for path in home.iterdir()} == before, "something is in the home")


each("content", dict(CONTENT), left)


# Keys in errors

ANSWERS = {
    "a broken status line": "HTTP/9.x {said}\r\n\r\n",
    "a broken header": "HTTP/1.1 200 OK\r\n{said}\x00: a\r\n\r\n",
    "small letters": "HTTP/1.1 403 No\r\nContent-Length: {length}\r\n\r\n{small}",
    "percent": "HTTP/1.1 500 No\r\nContent-Length: {length}\r\n\r\n{percent}",
    "base64": "HTTP/1.1 400 No\r\nContent-Length: {length}\r\n\r\n{base}",
    "entities": "HTTP/1.1 200 OK\r\nContent-Length: {length}\r\n\r\n{entities}",
}


def whispered(hut: Hut, answer: object) -> None:
    """A key that goes in the query comes back in errors, and comes out nowhere."""
    forms = {
        "said": KEY,
        "small": KEY.lower(),
        "percent": quote("".join(f"%{ord(one):02x}" for one in KEY)),
        "base": base64.b64encode(f"warden:{KEY}".encode()).decode(),
        "entities": "".join(f"&#{ord(one)};" for one in KEY),
    }
    used = next(name for name in forms if f"{{{name}}}" in str(answer))
    text = str(answer).format(**forms, length=len(forms[used])).encode("latin-1")
    with hut.serving(lambda head, sound: text) as url:
        more = 'every.query = {{ key = "{{key}}" }}\nsend.raw = "{{audio}}"\n'.format()
        card = f'[engine.reed]\nurl = "{url}"\nsecrets.key = "env:MARSH_KEY"\n{more}'
        (hut.folder / "mantisreed.toml").write_text(
            f'[settings]\nmax_attempts = 1\n{card}accepts.formats = ["wav"]\nreply.text = "says"\n'
        )
        ended = hut.run("run", "a.wav", "--log-file", "log.txt", "-v", "--report", "r.csv")
        told = ended.stdout + ended.stderr + hut.run("jobs", "--json").stdout
    kept = "".join(
        path.read_bytes().decode("latin-1")
        for path in hut.folder.rglob("*")
        if path.is_file() and path.suffix not in (".wav", ".toml")
    )
    for form in forms.values():
        must(form.lower() not in (told + kept).lower(), f"the key came out, as {used}")


each("keys in errors", dict(ANSWERS), whispered)


if __name__ == "__main__":
    sys.exit(attack.main())
