#!/usr/bin/env bash
# Installs Transferra as a program of its own: compiled to native code, it needs no .NET where it runs, and starts in about a quarter of the time.
#   ./install.sh             for everybody as root, in /opt/transferra and /usr/local/bin; for yourself otherwise, in ~/.local
#   ./install.sh --to DIR    into this folder only, to try it there, or to copy it to another machine
#   ./install.sh --to DIR --for-this-machine    into this folder only, for the processor of this machine; it may not run on another
# It takes some minutes. What is installed already stays until the new program is whole.
set -euo pipefail
here=$(cd -- "$(dirname -- "$(readlink -f -- "${BASH_SOURCE[0]}")")" && pwd)

fail() { echo "install.sh: $1" >&2; echo "  $2" >&2; exit 2; }

# What an installation consists of; a folder with anything else in it is somebody's, and is never replaced.
files=(libe_sqlite3.so transferra)
is_ours() { [ "$(ls -A -- "$1")" = "$(printf '%s\n' "${files[@]}")" ]; }
refuse_others() {
  [ -e "$1" ] || return 0
  if [ -d "$1" ] && { [ -z "$(ls -A -- "$1")" ] || is_ours "$1"; }; then return 0; fi
  fail "$1 is there, and holds something else than Transferra" "Name another folder with --to; nothing was changed."
}

link= here_only=
case "${1:-}" in
  --to) case "$#:${2:-}:${3:-}" in
        ?:-*) fail "--to needs a folder" "For example: ./install.sh --to /srv/transferra" ;;
        2:*) ;;
        3:*:--for-this-machine) here_only=yes ;;
        *) fail "--to needs one folder" "For example: ./install.sh --to /srv/transferra" ;;
      esac
      folder=$2 ;;
  "") if [ "$(id -u)" -eq 0 ]; then folder=/opt/transferra link=/usr/local/bin/transferra
      else folder=$HOME/.local/lib/transferra link=$HOME/.local/bin/transferra; fi ;;
  *) fail "unknown option $1" "See the first lines of install.sh." ;;
esac
refuse_others "$folder"
[ -z "$link" ] || [ ! -e "$link" ] || [ "$(readlink -- "$link")" = "$folder/transferra" ] ||
  fail "$link is there, and is not ours" "Remove it, or name a folder with --to; nothing was changed."
command -v dotnet >/dev/null || fail "dotnet was not found" "Building needs the .NET 10 SDK; what is built does not."
command -v clang >/dev/null || command -v gcc >/dev/null ||
  fail "there is no linker: neither clang nor gcc was found" "For example: apt-get install clang zlib1g-dev"

# With --to alone the program may be meant for another machine, so it gets only what all have.
instructions=()
if [ -n "$link$here_only" ]; then source "$here/src/instructions.sh"; fi

mkdir -p "$(dirname "$folder")" "$here/artifacts"
folder=$(readlink -f -- "$folder")
part=$(mktemp -d "$folder.part-XXXXXX")
trap 'rm -rf "$part"' EXIT
# One build at a time, also beside ./transferra.
exec 9>"$here/artifacts/.build-lock"
flock 9
# What was compiled with other instructions before would be taken as it is.
rm -rf "$here"/src/Transferra.Cli/obj/Release/net*/linux-*/native
echo "Compiling Transferra to native code; this takes some minutes..."
if ! DOTNET_TieredPGO=0 DOTNET_GCgen0size=0x10000000 dotnet publish "$here/src/Transferra.Cli" -c Release --use-current-runtime -p:PublishAot=true \
    -p:RunAnalyzers=false -p:UseSharedCompilation=true -p:DebugType=none "${instructions[@]}" -o "$part" --nologo -v quiet >"$here/artifacts/install.log" 2>&1
then
  cat "$here/artifacts/install.log" >&2
  fail "the build failed" "What it said is above, and in artifacts/install.log; nothing was changed."
fi
dotnet build-server shutdown --vbcscompiler >/dev/null 2>&1 || true
rm -f "$part"/*.xml "$part"/*.dbg
is_ours "$part" || fail "the build made other files than it should: $(ls -A -- "$part" | tr '\n' ' ')" "Nothing was changed."
"$part/transferra" --version >/dev/null || fail "the program does not run on this machine" "Nothing was changed."
chmod 755 "$part"
# Two renames: whoever calls the program meanwhile gets the old one or the new one, or for an instant none. It took minutes to come here.
refuse_others "$folder"
old=
if [ -e "$folder" ]; then old=$(mktemp -d "$folder.old-XXXXXX"); mv -T "$folder" "$old"; fi
mv -T "$part" "$folder"
[ -z "$old" ] || { (cd -- "$old" && rm -f -- "${files[@]}"); rmdir -- "$old"; }
if [ -n "$link" ]; then
  mkdir -p "$(dirname "$link")"
  ln -sfn "$folder/transferra" "$link"
  case ":$PATH:" in *":$(dirname "$link"):"*) ;; *) echo "$(dirname "$link") is not in PATH yet." ;; esac
fi
echo "Installed: ${link:-$folder/transferra} ($("$folder/transferra" --version), $(du -shL "$folder" | cut -f1))"
