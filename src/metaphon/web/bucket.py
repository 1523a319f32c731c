"""Files kept in a bucket that speaks S3.

They lie on a machine as long as they are used there, below MEDIA_ROOT under the same name: there
they are made, there they are brought when they are opened, and there they make way for others when
they have not been used for some time.
"""

import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import IO, Any

import boto3
from botocore.exceptions import ClientError
from django.conf import settings
from django.core.files import File
from django.utils._os import safe_join
from storages.backends.s3 import S3Storage

from metaphon.core.presence import brought_by
from metaphon.web.storage import KEPT_IN

_UNUSED_S = 3600.0  # what was used less long ago does not make way
_GIVEN_UP_S = 7 * 86_400.0


@dataclass(frozen=True)
class Bringer:
    """Brings files out of a bucket to where they are to lie; can be sent to other processes."""

    root: Path
    bucket: str
    address: str | None
    key: str | None
    secret: str | None

    def __call__(self, path: Path) -> None:
        """Bring a file that is not here yet; one that is counts as used now."""
        try:
            os.utime(path, ns=(time.time_ns(), path.stat().st_mtime_ns))
        except FileNotFoundError:
            if path.is_relative_to(self.root):
                self.fetch(path.relative_to(self.root).as_posix(), path)

    def fetch(self, name: str, path: Path) -> None:
        """Copy an object of the bucket to a path; leaves what the bucket does not have."""
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor, passing = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        os.close(descriptor)
        try:
            _client(self).download_file(self.bucket, name, passing)
            Path(passing).replace(path)
        except ClientError as error:
            if error.response["Error"]["Code"] not in ("404", "NoSuchKey"):
                raise OSError(f"The bucket does not give {name}.") from error
        finally:
            Path(passing).unlink(missing_ok=True)


@lru_cache(maxsize=4)
def _client(bringer: Bringer) -> Any:
    return boto3.client(
        "s3",
        endpoint_url=bringer.address,
        aws_access_key_id=bringer.key,
        aws_secret_access_key=bringer.secret,
        region_name="us-east-1" if bringer.address else None,
    )


class Bucket(S3Storage):
    """A bucket that speaks S3, and what of it is in use on this machine."""

    def __init__(self, **options: Any) -> None:
        super().__init__(file_overwrite=False, default_acl=None, **options)
        root = Path(settings.MEDIA_ROOT)
        self.bringer = Bringer(
            root, self.bucket_name, self.endpoint_url, self.access_key, self.secret_key
        )
        brought_by(self.bringer)

    def path(self, name: str) -> str:
        """Where a file lies on this machine, or is to lie once it is opened."""
        return str(safe_join(str(settings.MEDIA_ROOT), name)) if name else str(settings.MEDIA_ROOT)

    def _open(self, name: str, mode: str = "rb") -> File:  # type: ignore[type-arg]
        path = Path(self.path(name))
        self.bringer(path)
        held: IO[bytes] = path.open(mode)
        return File(held, name)

    def _save(self, name: str, content: Any) -> str:
        passing = getattr(content, "temporary_file_path", None)
        kept: str = super()._save(name, content)
        if passing is not None and Path(passing()).exists():  # in use here, most likely
            here = Path(self.path(kept))
            here.parent.mkdir(parents=True, exist_ok=True)
            shutil.move(passing(), here)
        return kept

    def delete(self, name: str) -> None:
        super().delete(name)
        Path(self.path(name)).unlink(missing_ok=True)

    def share(self, name: str) -> None:
        """Let other machines have a file that lies at its place here."""
        self.put_in(name, Path(self.path(name)))

    def unshare(self, prefix: str) -> None:
        """Forget for all machines what was shared below a name."""
        self.bucket.objects.filter(Prefix=prefix.rstrip("/") + "/").delete()

    def take_out(self, name: str, path: Path) -> None:
        """Copy a stored file to a path. Raises FileNotFoundError where it is not there."""
        self.bringer.fetch(name, path)
        if not path.exists():
            raise FileNotFoundError(name)

    def put_in(self, name: str, path: Path) -> None:
        """Store a copy of a file under just this name."""
        self.bucket.upload_file(str(path), name)

    def below(self, folder: str) -> Iterator[tuple[str, datetime]]:
        """The names of all files in and below a folder, and when they were stored."""
        for one in self.bucket.objects.filter(Prefix=f"{folder}/"):
            yield one.key, one.last_modified

    def make_way(self, most_bytes: int) -> int:
        """Give back what has lain here unused for longest, until no more than so much lies here.

        Returns
        -------
            How many files were deleted here; all of them are in the bucket.
        """
        for one in self.bucket.objects.filter(Prefix="scratch/"):  # of work that broke off
            if one.last_modified.timestamp() < time.time() - _GIVEN_UP_S:
                one.delete()
        root, before = Path(settings.MEDIA_ROOT), time.time() - _UNUSED_S
        lying = [
            (path.stat().st_atime, path.stat().st_size, path)
            for folder in KEPT_IN
            for path in (root / folder).rglob("*")
            if path.is_file()
        ]
        total, given = sum(size for _, size, _ in lying), 0
        for used, size, path in sorted(lying):
            if total <= most_bytes or used > before:
                break
            path.unlink(missing_ok=True)
            total, given = total - size, given + 1
        return given
