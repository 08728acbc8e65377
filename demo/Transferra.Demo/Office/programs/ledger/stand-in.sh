#!/bin/sh
# Starts, stops and tells of the stand-ins for the ledger's service and scheduler:  sh stand-in.sh service|scheduler start|stop|status
# They are this very program (transferra stand-in ...), whose place stands in stand-in.conf; each writes its process id beside itself once it is ready.
here=$(dirname "$0")
what=$1
ready="$here/$what.pid"

alive() { [ -f "$ready" ] && kill -0 "$(cat "$ready")" 2>/dev/null; }

wait_until() { # yes or no
  tries=0
  while [ $tries -lt 150 ]; do
    if alive; then [ "$1" = yes ] && return 0; else [ "$1" = no ] && return 0; fi
    tries=$((tries + 1))
    sleep 0.1
  done
  echo "the $what did not $2 in 15 s; see $here/$what.log"
  return 1
}

case $2 in
  start)
    alive && exit 0
    . "$here/stand-in.conf"
    setsid "$PROGRAM" ${ASSEMBLY:+"$ASSEMBLY"} stand-in "$what" --in "$here" >>"$here/$what.log" 2>&1 </dev/null &
    wait_until yes start
    ;;
  stop)
    alive || exit 0
    kill "$(cat "$ready")"
    wait_until no stop
    ;;
  status)
    alive && exit 0
    exit 3
    ;;
esac
