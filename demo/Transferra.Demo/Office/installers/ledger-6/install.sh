#!/bin/sh
# Stand-in for the vendor's installer: puts the new version's files over the old one's, as real ones do:  sh install.sh PROGRAM-FOLDER
# It keeps the port that is set, and, like many, forgets the printer.
set -e
here=$(dirname "$0")
port=$(sed -n 's/^Port=//p' "$1/ledger.ini")
sed "s/^Port=.*/Port=$port/" "$here/ledger.ini" >"$1/ledger.ini"
cp "$here/about.json" "$1/about.json"
