#!/usr/bin/env bash
# Measures everything of benchmarks/README.md in one go, compiled to native code, as users get the program; nothing is left behind.
#   benchmarks/all.sh          the sizes of README.md; takes an hour and a half
#   benchmarks/all.sh quick    a tenth of them, one round
# Whole commands are those of the program that install.sh makes for this machine.
set -euo pipefail
cd -- "$(dirname -- "$(readlink -f -- "${BASH_SOURCE[0]}")")/.."
export DOTNET_CLI_TELEMETRY_OPTOUT=1 DOTNET_NOLOGO=1
case "${1:-}" in
quick) part=10 rounds=1 growth=10 ;;
"") part=1 rounds=5 growth=100 ;;
*) echo "usage: benchmarks/all.sh [quick]" >&2; exit 2 ;;
esac
./install.sh --to artifacts/native --for-this-machine
TRANSFERRA_BENCH_PROGRAM=$PWD/artifacts/native/transferra
export TRANSFERRA_BENCH_PROGRAM
program=artifacts/benchmarks
benchmarks/build.sh
failed=0
measure() {
  printf '\n### %s\n' "$*"
  "$@" || failed=1
}
measure benchmarks/limits.sh $((1000 / part))
for megabytes in 100 800 2000; do measure "$program/Transferra.Benchmarks" backup $((megabytes / part)) "$rounds"; done
measure "$program/Transferra.Benchmarks" small $((rounds * 2))
measure "$program/Transferra.Benchmarks" convert $((2000000 / part)) "$rounds"
measure "$program/Transferra.Benchmarks" check $((10000000 / part)) "$rounds"
measure "$program/Transferra.Benchmarks" indexes $((3000000 / part)) "$rounds"
measure "$program/Transferra.Benchmarks" match $((3000000 / part)) "$rounds"
measure "$program/Transferra.Benchmarks" files $((1000000 / part)) "$rounds"
measure "$program/Transferra.Benchmarks" copy sqlite $((2000000 / part)) "$rounds"
measure "$program/Transferra.Benchmarks" growth all "$growth"
measure "$program/Transferra.Benchmarks" memory $((2000000 / part))
declare -A rows=([postgresql]=1500000 [mariadb]=1000000 [firebird]=150000)
for engine in postgresql mariadb firebird; do
  measure benchmarks/servers.sh "$engine" $((rows[$engine] / part)) "$rounds"
  measure benchmarks/servers.sh copy "$engine" $((2000000 / part)) "$rounds"
  measure benchmarks/servers.sh growth "$engine" all "$growth"
done
exit "$failed"
