#!/bin/sh
# The made-up vendor's converter, and its program at the first login:  sh stand-in.sh converter|first-login STORE
# Both are this very program (transferra stand-in ...), whose place stands in the ledger's stand-in.conf.
here=$(dirname "$0")
. "$here/../ledger/stand-in.conf"
exec "$PROGRAM" ${ASSEMBLY:+"$ASSEMBLY"} stand-in "$1" --in . --file "$2"
