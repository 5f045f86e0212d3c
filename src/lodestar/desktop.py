"""Making the program known to the user's desktop, and forgetting it again: menu entry, icon, kind of file, description and manual page.

Standards: freedesktop.org Desktop Entry, Icon Theme, Shared MIME-info Database and AppStream; man-pages(7). Everything goes under the
user's data folder (XDG_DATA_HOME); nothing of the system is touched.
"""

import os
import shutil
import subprocess
from pathlib import Path

from .core.basics.errors import UserError
from .core.basics.paths import replacing

NAME, KIND = "bright-lodestar", "application/x-bright-lodestar-shot"
ICON = Path(__file__).parent / "icons" / f"{NAME}.svg"


def data_home() -> Path:
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def files(start: Path) -> dict[Path, str]:
    """What is written, under the data folder, and what stands in it. start: the script that starts the program."""
    # in Exec, quotes hold a path together; these characters are escaped within them (Desktop Entry, The Exec key)
    quoted = '"' + "".join("\\" + c if c in '"`$\\' else c for c in str(start)).replace("%", "%%") + '"'
    entry = f"""[Desktop Entry]
Type=Application
Version=1.5
Name=Bright Lodestar
GenericName=Titles in moving pictures
Comment=Letters that look as if they had stood in the place when it was filmed
Exec={quoted} %f
Icon={NAME}
Terminal=false
Categories=AudioVideo;Video;Graphics;3DGraphics;
MimeType={KIND};
Keywords=title;video;camera;track;letters;
StartupWMClass=bright-lodestar
"""
    kind = f"""<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{KIND}">
    <comment>Bright Lodestar shot</comment>
    <glob pattern="*.lode"/>
    <icon name="{NAME}"/>
  </mime-type>
</mime-info>
"""
    about = f"""<?xml version="1.0" encoding="UTF-8"?>
<component type="desktop-application">
  <id>{NAME}</id>
  <metadata_license>CC0-1.0</metadata_license>
  <project_license>GPL-3.0-or-later</project_license>
  <name>Bright Lodestar</name>
  <summary>Titles that stand in the place that was filmed</summary>
  <description>
    <p>Finds how the camera of a handheld or drone shot moved, stands solid letters and logos on what it sees, lights them as the place was lit,
    throws their shadows, and hides them behind whatever passes in front.</p>
  </description>
  <launchable type="desktop-id">{NAME}.desktop</launchable>
  <provides><mediatype>{KIND}</mediatype></provides>
  <content_rating type="oars-1.1"/>
</component>
"""
    manual = """.TH LODESTAR 1 "" "Bright Lodestar" "User Commands"
.SH NAME
lodestar \\- titles that look as if they had stood in the place that was filmed
.SH SYNOPSIS
.B lodestar
[\\fIFILE\\fR]
.br
.B lodestar
\\fICOMMAND\\fR [\\fIOPTIONS\\fR]
.SH DESCRIPTION
Without a command the window opens, on a shot (.lode) or a clip if one is given.
.SH COMMANDS
.TP
\\fBnew\\fR CLIP -o SHOT
Make a shot of a clip.
.TP
\\fBupdate\\fR SHOT [--only STEPS]
Run every step of a shot that is missing or stale: track, solve, mattes.
.TP
\\fBrender\\fR SHOT -o FILE [--pass PASS] [--quality QUALITY]
Write the finished movie, pictures, or a pass.
.TP
\\fBsolve\\fR CLIP -o FILE
Track a clip and solve its camera.
.TP
\\fBinfo\\fR FILE, \\fBexport\\fR SHOT -o FILE
What a file is; the camera of a shot.
.TP
\\fBinstall\\fR, \\fBuninstall\\fR
Make the program known to the desktop, or forget it.
.SH EXIT STATUS
0 done; 2 wrong input; 3 no camera explains the clip; 70 a fault of the program, of which a report was written; 130 cancelled.
"""
    return {
        Path("applications") / f"{NAME}.desktop": entry,
        Path("icons/hicolor/scalable/apps") / f"{NAME}.svg": ICON.read_text(),
        Path("mime/packages") / f"{NAME}.xml": kind,
        Path("metainfo") / f"{NAME}.metainfo.xml": about,
        Path("man/man1/lodestar.1"): manual,
    }


def install(start: Path) -> list[Path]:
    """Write the files for this user; returns where. Raises UserError where the folder cannot be written."""
    written = []
    try:
        for name, text in files(start).items():
            path = data_home() / name
            path.parent.mkdir(parents=True, exist_ok=True)
            with replacing(path) as part:
                part.write_bytes(text.encode())
            written.append(path)
    except OSError as error:
        uninstall()
        raise UserError(
            f"{error.filename or data_home()} cannot be written.", "Look at the rights of that folder; nothing was left behind."
        ) from error
    _tell_desktop()
    return written


def uninstall() -> list[Path]:
    """Take those files away that are there; returns which."""
    gone = []
    for name in files(Path("lodestar")):
        path = data_home() / name
        if path.exists():
            path.unlink()
            gone.append(path)
    _tell_desktop()
    return gone


def _tell_desktop() -> None:
    """The desktop's own tools look through its folders anew; where they are missing, it does so at the next log-in."""
    for tool, folder in (("update-desktop-database", "applications"), ("update-mime-database", "mime")):
        if shutil.which(tool) and (data_home() / folder).is_dir():
            subprocess.run([tool, str(data_home() / folder)], capture_output=True, check=False, timeout=60)
