#!/usr/bin/env bash
# Starts the three database servers on loopback, measures loading into one of them against the engine's own fastest way, and stops them.
# Transferra is compiled to native code, as users get it.
#   benchmarks/servers.sh ENGINE [ROWS [ROUNDS]]       ENGINE: postgresql, mariadb or firebird
#   benchmarks/servers.sh copy ENGINE [ROWS [ROUNDS]]  a hop that changes nothing, against INSERT ... SELECT
#   benchmarks/servers.sh growth ENGINE [DIRECTION|all [TIMES]]  whole commands on growing databases (TRANSFERRA_BENCH_PROGRAM)
set -euo pipefail
cd -- "$(dirname -- "$(readlink -f -- "${BASH_SOURCE[0]}")")/.."
source tests/servers.sh
servers_install
trap servers_stop EXIT
servers_start "$(mktemp -u /tmp/transferra-servers-XXXXXX)"
program=artifacts/benchmarks
benchmarks/build.sh
case "$1" in
copy) "$program/Transferra.Benchmarks" "$@" ;;
growth) "$program/Transferra.Benchmarks" servers-growth "${@:2}" ;;
*) "$program/Transferra.Benchmarks" servers "$@" ;;
esac
