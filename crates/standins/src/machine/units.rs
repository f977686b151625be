//! The units of a machine, for who is let in over SSH: programs called as those of systemd, over a
//! folder for each unit.

use std::{fs, io, os::unix::fs::PermissionsExt, path::Path};

/// The unit that a machine has from its start.
const FIRST: &str = "booking.service";

/// `show`, `restart`, `start` and `stop` of units. `breaks` in a unit's folder is the fault that it
/// has: one that says `start` does not come up, any other falls over and is started again, time and
/// again.
const SYSTEMCTL: &str = r#"#!/bin/sh
units='@FOLDER@/units'
verb=$1
shift
for unit in "$@"; do :; done
at="$units/$unit"
run() {
    od -An -N16 -tx1 /dev/urandom | tr -d ' \n' > "$at/invocation"
    echo "$(date -Is) $(uname -n) systemd[1]: Started $unit." >> "$at/log"
}
fails() {
    echo failed > "$at/state"
    echo "$(date -Is) $(uname -n) systemd[1]: $unit: Failed with result 'exit-code'." >> "$at/log"
    echo "Job for $unit failed because the control process exited with error code." >&2
    exit 1
}
case $verb in
show)
    if [ ! -d "$at" ]; then
        printf 'LoadState=not-found\nActiveState=inactive\nSubState=dead\nInvocationID=\n'
        exit 0
    fi
    [ -e "$at/breaks" ] && [ "$(cat "$at/state")" = active ] && run
    case $(cat "$at/state") in
    active) printf 'LoadState=loaded\nActiveState=active\nSubState=running\n' ;;
    failed) printf 'LoadState=loaded\nActiveState=failed\nSubState=failed\n' ;;
    *) printf 'LoadState=loaded\nActiveState=inactive\nSubState=dead\n' ;;
    esac
    echo "InvocationID=$(cat "$at/invocation")"
    ;;
restart | start | stop)
    if [ ! -d "$at" ]; then
        echo "Failed to $verb $unit: Unit $unit not found." >&2
        exit 5
    fi
    if [ "$verb" = stop ]; then
        echo inactive > "$at/state"
        exit 0
    fi
    run
    [ "$(cat "$at/breaks" 2>/dev/null)" = start ] && fails
    echo active > "$at/state"
    ;;
*)
    echo "Unknown command verb $verb." >&2
    exit 1
    ;;
esac
"#;

/// The last lines of a unit.
const JOURNALCTL: &str = r#"#!/bin/sh
lines=10
for arg in "$@"; do
    case $arg in
    --unit=*) unit=${arg#--unit=} ;;
    --lines=*) lines=${arg#--lines=} ;;
    esac
done
if [ ! -s "@FOLDER@/units/$unit/log" ]; then
    echo '-- No entries --'
    exit 0
fi
tail -n "$lines" "@FOLDER@/units/$unit/log"
"#;

/// The packages that have a newer version, a line each in `pending`, and their installation. With
/// a `breaks` beside that the first unit does not survive it; if that says `install`, it fails
/// itself.
const APT_GET: &str = r#"#!/bin/sh
at='@FOLDER@/packages'
for arg in "$@"; do
    case $arg in
    -s) simulates=yes ;;
    update | upgrade) verb=$arg ;;
    esac
done
case $verb in
update) ;;
upgrade)
    if [ -n "$simulates" ]; then
        sed 's/.*/Inst & [1.0-1] (1.0-2 Debian:12\/oldstable [amd64])/' "$at/pending"
        exit 0
    fi
    case $(cat "$at/breaks" 2>/dev/null) in
    '') ;;
    install)
        echo 'E: Sub-process /usr/bin/dpkg returned an error code (1)' >&2
        exit 100
        ;;
    *) echo failed > '@FOLDER@/units/@FIRST@/state' ;;
    esac
    sed 's/.*/Setting up & (1.0-2) .../' "$at/pending"
    : > "$at/pending"
    ;;
*)
    echo "E: Invalid operation $verb" >&2
    exit 100
    ;;
esac
"#;

/// Whoever is let in may do everything.
const SUDO: &str = r#"#!/bin/sh
[ "$1" = -n ] && shift
exec "$@"
"#;

/// Lays them out in a machine's folder: `bin`, which comes first in the path of sessions, `units`
/// with one that runs, and `packages` with two that have a newer version.
pub(super) fn lay_out(folder: &Path) -> io::Result<()> {
    let bin = folder.join("bin");
    fs::create_dir_all(&bin)?;
    let at = folder.display().to_string();
    let packages = folder.join("packages");
    fs::create_dir_all(&packages)?;
    fs::write(packages.join("pending"), "openssl\nlibssl3\n")?;
    for (name, text) in
        [("systemctl", SYSTEMCTL), ("journalctl", JOURNALCTL), ("apt-get", APT_GET), ("sudo", SUDO)]
    {
        let program = bin.join(name);
        fs::write(&program, text.replace("@FOLDER@", &at).replace("@FIRST@", FIRST))?;
        fs::set_permissions(&program, fs::Permissions::from_mode(0o755))?;
    }
    add(folder, FIRST)
}

/// Adds a unit that runs.
fn add(folder: &Path, name: &str) -> io::Result<()> {
    let unit = folder.join("units").join(name);
    fs::create_dir_all(&unit)?;
    fs::write(unit.join("state"), "active\n")?;
    fs::write(unit.join("invocation"), "0123456789abcdef0123456789abcdef\n")
}
