"""What can be checked of a run before anything is sent: all that its options and settings name
outside of it.

A name that is wrong would else be told after an hour of transcribing, or after the engine was paid.
"""

import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path

from mantisreed.cards.templates import Template
from mantisreed.destinations.rows import check_file, check_library
from mantisreed.destinations.rules import FollowUp
from mantisreed.errors import InputError
from mantisreed.files import folder_at, printable
from mantisreed.pipeline.options import RunOptions, follow_ups_of
from mantisreed.secrets import SecretSource
from mantisreed.services.card import TextServiceCard
from mantisreed.services.client import language_named
from mantisreed.sources.recordings import STORAGE
from mantisreed.workspace import Workspace


def check_follow_ups(
    workspace: Workspace, options: RunOptions, *, needs_secrets: bool = True
) -> None:
    """Return if all that is to be done with the transcripts can be done, as far as that can be
    known.

    Args:
        workspace: with the settings.
        options: of the run.
        needs_secrets: whether something will be sent.

    Raises:
        TrustError: the settings may not do it.
        InputError: something that a follow-up names is not there, or does not fit.
    """
    formats = tuple(options.to if options.to is not None else workspace.settings.to)
    rules = follow_ups_of(workspace, options, formats)
    if needs_secrets:
        require_trust_in_follow_ups(workspace, rules)
    for rule in rules.values():
        try:
            _check_rule(workspace, rule, rules, formats)
            _check_language(workspace, rule, options)
            if needs_secrets:
                _read_secrets(workspace, rule)
        except InputError as error:
            error.where = error.where or f"follow_up.{rule.name}"
            raise


def require_trust_in_follow_ups(workspace: Workspace, rules: Mapping[str, FollowUp]) -> None:
    """Return if the settings may do all that is to be done with the transcripts.

    Raises:
        TrustError: they may not.
    """
    for rule in rules.values():
        workspace.require_trust_in_follow_up(rule.name)
        for service in filter(None, (rule.service, rule.back)):
            workspace.require_trust_in_service(service)


def _check_rule(
    workspace: Workspace, rule: FollowUp, rules: Mapping[str, FollowUp], formats: tuple[str, ...]
) -> None:
    """See that what a follow-up names inside the settings and on this machine is there."""
    for name in filter(None, (rule.service, rule.back)) if rule.to else ():
        kind = workspace.service(name).kind
        if kind != "text":
            raise InputError(f"service {name} gives {kind}, and cannot translate")
    # Whatever a service gives is written to a file too.
    there = (*formats, *(name for name in rule.follows if rules[name].service is not None))
    _check_files_sent(rule, there)
    if rule.command is not None and rule.command.run:
        _check_program(rule.name, rule.command.run[0])
    if rule.copy is not None:
        _check_copy(workspace, rule)
    if rule.rows is not None:
        if rule.rows.file is not None:
            check_file(workspace.folder / rule.rows.file, rule.rows)
        if rule.rows.database is not None:
            check_library(rule.rows.database)


def _check_files_sent(rule: FollowUp, there: Sequence[str]) -> None:
    """See that the files that a follow-up sends are among those that there will be."""
    if rule.doing is None:
        return
    for key, wanted in rule.doing.files_sent():
        missing = [name for name in wanted if name not in there]
        if missing:
            known = ", ".join(there) or "none"
            raise InputError(
                f"there will be no file {missing[0]!r}",
                where=f"follow_up.{rule.name}.{key}",
                advice=f"there will be: {known}",
            )


def _check_program(name: str, template: Template) -> None:
    """See that the program of a follow-up is there, where its name is known before."""
    program = _plain(template)
    if program is not None and shutil.which(str(Path(program).expanduser())) is None:
        raise InputError(
            f"there is no program {program!r} on this machine", where=f"follow_up.{name}.command"
        )


def _check_copy(workspace: Workspace, rule: FollowUp) -> None:
    assert rule.copy is not None
    place = _plain(rule.copy.to)
    if place is None:
        return  # it is another one for each recording
    if STORAGE.match(place):
        from mantisreed.sources.storage import opened  # takes long to import

        opened(place)
        return
    folder = folder_at(workspace.folder, place)
    # A file anywhere on the way keeps the folder from being made.
    taken = next(
        (one for one in (folder, *folder.parents) if one.exists() and not one.is_dir()), None
    )
    if taken is not None:
        raise InputError("is a file, and no folder", where=printable(taken))


def _check_language(workspace: Workspace, rule: FollowUp, options: RunOptions) -> None:
    """See that services know the languages, as far as these are known before."""
    spoken = options.translate_to or options.language or workspace.settings.language
    if rule.service is None or not rule.to:
        return
    card = workspace.service(rule.service)
    language_named(card, rule.target, is_target=True)
    _see_that_it_reads(card, spoken)
    if rule.back is not None:
        back = workspace.service(rule.back)
        _see_that_it_reads(back, rule.target)
        if spoken is not None:
            language_named(back, spoken, is_target=True)


def _see_that_it_reads(card: TextServiceCard, tag: str | None) -> None:
    if tag is not None:
        language_named(card, tag)


def _read_secrets(workspace: Workspace, rule: FollowUp) -> None:
    sources: list[SecretSource | None] = []
    if rule.doing is not None:
        sources += rule.doing.secret_sources()
    for name in filter(None, (rule.service, rule.back)):
        sources += workspace.service(name).secrets.values()
    for source in sources:
        if source is not None:
            source.read(workspace.folder)


def _plain(template: Template) -> str | None:
    """A template without placeholders as its text; None for one with some."""
    if template.names:
        return None
    return template.text({})
