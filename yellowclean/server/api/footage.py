"""Footage coming in: uploads in chunks, and imports from allowed folders."""

from __future__ import annotations

import secrets
from pathlib import Path

from django.conf import settings
from django.http import HttpRequest
from ninja import Router

from ...engine.errors import BadInput
from ...engine.media.names import shots_in
from ..models import Job
from ..use_cases import add_all, allowed_folder
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
    file = folder / safe
    arrived = file.stat().st_size if file.exists() else 0
    if offset == arrived:
        with file.open("ab") as stream:
            stream.write(request.body)
    return _state(folder, token)


@router.post("/jobs/{job_id}/uploads/{token}/complete", response=Added)
def complete_upload(request: HttpRequest, job_id: int, token: str) -> Added:
    """Add what was uploaded as shots; unreadable files are refused by one line each and removed."""
    job = Job.objects.get(pk=job_id)
    folder = _folder(job, token)
    paths = shots_in(folder) if folder.is_dir() else []
    if not paths:
        raise BadInput("Nothing was uploaded; drop the footage again.")
    shots, refused = add_all(job, paths)
    if not shots:
        for file in folder.iterdir():
            file.unlink()
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
    shots, refused = add_all(job, [allowed_folder(path)])
    return Added(shots=[told_shot(shot) for shot in shots], refused=refused)
