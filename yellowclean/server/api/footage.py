"""Footage coming in: uploads in chunks, and imports from allowed folders."""

from __future__ import annotations

import fcntl
import os
import secrets
from pathlib import Path

from django.conf import settings
from django.http import HttpRequest
from ninja import Router

from ...engine.errors import BadInput
from ...engine.media import files_of
from ...engine.media.names import shots_in
from ..models import Job, Shot
from ..use_cases import add_all, allowed_folder, allowed_footage
from .jobs import told_shot
from .schemas import Added, FolderEntry, UploadState

router = Router(tags=["footage"])


def _folder(job: Job, token: str) -> Path:
    if not token.isalnum():
        raise BadInput("That upload does not exist; start it again.")
    return job.folder / token


def _state(folder: Path, token: str) -> UploadState:
    sizes = {file.name: file.stat().st_size for file in folder.iterdir()} if folder.is_dir() else {}
    return UploadState(token=token, received=sizes)


@router.post("/jobs/{job_id}/uploads", response=UploadState)
def begin_upload(request: HttpRequest, job_id: int) -> UploadState:
    token = secrets.token_hex(8)
    folder = _folder(Job.objects.get(pk=job_id), token)
    folder.mkdir(parents=True)
    return _state(folder, token)


@router.put("/jobs/{job_id}/uploads/{token}/files/{name}", response=UploadState)
def upload_chunk(request: HttpRequest, job_id: int, token: str, name: str, offset: int) -> UploadState:
    """Append a chunk. The answer tells how much has arrived, so that a broken upload can go on."""
    folder = _folder(Job.objects.get(pk=job_id), token)
    safe = Path(name).name.lstrip(".")
    if not safe or safe != name or not folder.is_dir():
        raise BadInput(f"{name}: is not a file name that can be stored; rename it.")
    with (folder / safe).open("ab") as stream:
        fcntl.flock(stream, fcntl.LOCK_EX)  # a chunk that is sent twice at once is taken once
        if offset == os.fstat(stream.fileno()).st_size:
            stream.write(request.body)
    return _state(folder, token)


@router.post("/jobs/{job_id}/uploads/{token}/complete", response=Added)
def complete_upload(request: HttpRequest, job_id: int, token: str) -> Added:
    """Add what was uploaded as shots; unreadable files are refused by one line each and removed. Asked for again,
    it tells the same shots."""
    job = Job.objects.get(pk=job_id)
    folder = _folder(job, token)
    paths = shots_in(folder) if folder.is_dir() else []
    if not paths:
        raise BadInput("Nothing was uploaded; drop the footage again.")
    there = {shot.path: shot for shot in Shot.objects.filter(job=job, path__in=[str(path) for path in paths])}
    added, refused = add_all(job, [path for path in paths if str(path) not in there])
    shots = [*there.values(), *added]
    owned = {file for shot in shots for file in files_of(shot.path)}
    for file in folder.iterdir():
        if file not in owned:
            file.unlink()
    if not owned:
        folder.rmdir()
    return Added(shots=[told_shot(shot) for shot in shots], refused=refused)


@router.get("/folders", response=list[FolderEntry])
def list_folder(request: HttpRequest, path: str = "") -> list[FolderEntry]:
    """The folders that footage may be imported from, or what one of them holds."""
    if not path:
        roots = settings.YELLOW_CLEAN.media_folders
        return [FolderEntry(name=str(root), path=str(root), is_folder=True) for root in roots]
    folder = allowed_folder(path)
    if not folder.is_dir():
        raise BadInput(f"{path}: is not a folder.")
    inner = [p for p in sorted(folder.iterdir()) if p.is_dir() and not p.name.startswith(".")]
    entries = [FolderEntry(name=p.name, path=str(p), is_folder=True) for p in inner]
    return entries + [FolderEntry(name=p.name, path=str(p), is_folder=False) for p in shots_in(folder)]


@router.post("/jobs/{job_id}/import", response=Added)
def import_footage(request: HttpRequest, job_id: int, path: str) -> Added:
    """Add a file or sequence from an allowed folder; it stays where it is."""
    job = Job.objects.get(pk=job_id)
    shots, refused = add_all(job, [allowed_footage(path)])
    return Added(shots=[told_shot(shot) for shot in shots], refused=refused)
