#!/usr/bin/env bash
# What this machine itself can do, to read the other figures by: writing and reading the disk, zstd, SHA-256, and a scan by the engine.
#   benchmarks/limits.sh [MEGABYTES]      of the file that is written; 1,000 unless told otherwise
set -euo pipefail
megabytes=${1:-1000}
folder=$(mktemp -d "${TMPDIR:-/tmp}/transferra-limits-XXXXXX")
trap 'rm -rf "$folder"' EXIT
file=$folder/file

# Seconds that a command took.
seconds() {
  local from to
  from=$(date +%s%N)
  "$@" >/dev/null 2>"$folder/error" || { cat "$folder/error" >&2; return 1; }
  to=$(date +%s%N)
  echo $(( (to - from) / 1000000 )) | awk '{ printf "%.3f", $1 / 1000 }'
}

rate() { awk -v m="$megabytes" -v s="$2" -v what="$1" 'BEGIN { printf "%-34s %6.0f MB/s\n", what, m / s }'; }

# Half of it text that can be packed, half of it not, as in benchmarks backup.
{ head -c "$((megabytes / 2 * 3 / 4))M" /dev/urandom | base64 -w 80; head -c "$((megabytes / 2))M" /dev/urandom; } >"$file"
megabytes=$(($(stat -c %s "$file") / 1000000))
sync
rate "writing, on the disk at the end" "$(seconds dd if="$file" of="$file.copy" bs=4M conv=fdatasync)"
dd of="$file.copy" oflag=nocache conv=notrunc,fdatasync count=0 2>/dev/null
rate "reading, past the cache" "$(seconds dd if="$file.copy" of=/dev/null bs=4M)"
rate "zstd -3, one thread" "$(seconds zstd -q -3 -T1 -f "$file" -o "$file.zst")"
rate "zstd -3, two threads" "$(seconds zstd -q -3 -T2 -f "$file" -o "$file.zst")"
rate "sha256sum" "$(seconds sha256sum "$file")"
if command -v sqlite3 >/dev/null; then
  sqlite3 "$folder/store.db" "PRAGMA journal_mode = OFF; CREATE TABLE e (id INTEGER PRIMARY KEY, a INTEGER, b TEXT, c TEXT, d REAL);
    WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 1000000)
    INSERT INTO e SELECT i, i % 977, 'entry number ' || i, 'R' || (i % 50000), i / 7.0 FROM c" >/dev/null
  took=$(seconds sqlite3 -readonly "$folder/store.db" "SELECT sum(length(id)) + sum(length(a)) + sum(length(b)) + sum(length(c)) + sum(length(d)) FROM e")
  awk -v s="$took" 'BEGIN { printf "%-34s %6.2f million records a second\n", "sqlite3, reading five columns", 1 / s }'
fi
