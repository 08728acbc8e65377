#!/usr/bin/env bash
# Builds everything and runs every test. The last line says how many passed and failed; the exit code is 0 only when none failed.
#   ./test.sh            what has to pass before a change lands
#   ./test.sh --soak     the same with the long runs: every kill point both ways, 3,000 made-up offices
#   ./test.sh --native   the same on the program that install.sh makes, each command a process of its own
#   TRANSFERRA_SEED=N    makes other offices and other random data; the seed of what fails is told with it
#   TRANSFERRA_OFFICE=N  walks through the one made-up office that a failure named
set -uo pipefail
cd -- "$(dirname -- "$(readlink -f -- "${BASH_SOURCE[0]}")")"
export DOTNET_CLI_TELEMETRY_OPTOUT=1 DOTNET_NOLOGO=1
native=
for option in "$@"; do
  case $option in
  --soak) export TRANSFERRA_SOAK=1 ;;
  --native) native=$PWD/artifacts/native ;;
  *) echo "usage: ./test.sh [--soak] [--native]" >&2; exit 2 ;;
  esac
done
results=artifacts/test-results
rm -rf "$results"
mkdir -p "$results"

# The build needs none of what is installed and started meanwhile.
echo "Building..."
# One compiler for all projects, wherever it is started, takes half the time of one for each; and all is built for the machine at hand,
# as the program that tests start has to be, or it would be compiled twice.
compiler=(env DOTNET_TieredPGO=0 dotnet)
shared=-p:UseSharedCompilation=true here=-p:UseCurrentRuntimeIdentifier=true
"${compiler[@]}" build Transferra.slnx -c Release --nologo -v quiet -clp:NoSummary "$shared" "$here" >"$results/build.log" 2>&1 &
building=$!

# What tests need besides the SDK: an independent reader of .dbf tables, an independent writer of workbooks, a reader of PDF, a firewall and a network to try it in, and the three database servers and OpenSSH, started on loopback with folders of their own.
if ! /usr/bin/python3 -c 'import dbfread, openpyxl' 2>/dev/null; then
  echo "Installing python3-dbfread and python3-openpyxl..."
  { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq python3-dbfread python3-openpyxl; } >"$results/apt.log" 2>&1 || cat "$results/apt.log"
fi

if ! command -v pdftotext >/dev/null; then
  echo "Installing poppler-utils..."
  { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq poppler-utils; } >"$results/apt.log" 2>&1 || cat "$results/apt.log"
fi

if ! command -v nft >/dev/null || ! command -v ip >/dev/null; then
  echo "Installing nftables and iproute2..."
  { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq nftables iproute2; } >"$results/apt.log" 2>&1 || cat "$results/apt.log"
fi

source tests/servers.sh
trap 'servers_stop; dotnet build-server shutdown --vbcscompiler >/dev/null 2>&1' EXIT
servers_install
echo "Starting PostgreSQL, MariaDB, Firebird and OpenSSH on loopback..."
if ! servers_start "$(servers_place)"; then
  wait "$building"
  echo "0 passed, 1 failed"
  exit 1
fi

built=0
wait "$building" || built=1
cat "$results/build.log"
if [ "$built" -ne 0 ]; then
  echo "0 passed, 1 failed"
  exit 1
fi

# Tests of one project; its results are counted below.
run_tests() {
  local name
  name=$(basename "$1")
  dotnet test "$1" -c Release --no-build "$here" --nologo -v quiet --logger "trx;LogFileName=$name.trx" --logger "console;verbosity=minimal" --results-directory "$results"
}

# Those that do not start the program run while it is compiled, and beside those that do, which wait much of the time.
declare -A early=()
for project in tests/Transferra.Core.Tests tests/Transferra.Reports.Tests tests/Transferra.Stores.Tests; do
  run_tests "$project" >"$results/$(basename "$project").log" 2>&1 &
  early[$project]=$!
done

# The tests of the command line start the program many hundred times, so they get it compiled ahead of time, as users do.
export TRANSFERRA_TEST_PROGRAM=$PWD/artifacts/test-program
export TRANSFERRA_TEST_RESULTS=$PWD/$results
if ! "${compiler[@]}" publish tests/Transferra.KillHost -c Release "$here" --self-contained false -p:PublishReadyToRun=true \
    -o "$TRANSFERRA_TEST_PROGRAM" --nologo -v quiet -clp:NoSummary "$shared"; then
  echo "0 passed, 1 failed"
  exit 1
fi
dotnet build-server shutdown --vbcscompiler >/dev/null 2>&1
if [ -n "$native" ]; then
  if ! ./install.sh --to "$native"; then
    echo "0 passed, 1 failed"
    exit 1
  fi
  export TRANSFERRA_TEST_NATIVE=$native/transferra
fi

passed=0 failed=0
for project in tests/*.Tests; do
  name=$(basename "$project")
  broken=0
  if [ -n "${early[$project]:-}" ]; then
    wait "${early[$project]}" || broken=1
    cat "$results/$name.log"
  else
    run_tests "$project" || broken=1
  fi
  counters=$(grep -o '<Counters [^>]*>' "$results/$name.trx" 2>/dev/null)
  ran=$(sed -n 's/.* executed="\([0-9]*\)".*/\1/p' <<<"$counters")
  good=$(sed -n 's/.* passed="\([0-9]*\)".*/\1/p' <<<"$counters")
  total=$(sed -n 's/.* total="\([0-9]*\)".*/\1/p' <<<"$counters")
  # A skipped test counts as failed, and so does a project that ran nothing or broke off.
  bad=$(( ${total:-0} - ${good:-0} ))
  if [ "${ran:-0}" -eq 0 ] || { [ "$broken" -eq 1 ] && [ "$bad" -eq 0 ]; }; then bad=$((bad + 1)); fi
  passed=$((passed + ${good:-0})) failed=$((failed + bad))
done
cat "$results"/offices-*.log 2>/dev/null
echo "The slowest tests, in seconds:"
sed -n 's/.*<UnitTestResult .*testName="\([^"]*\)".* duration="\([^"]*\)".*/\2 \1/p' "$results"/*.trx | sort -r | head -20 |
  awk '{ split($1, time, ":"); printf "%8.1f  ", time[1] * 3600 + time[2] * 60 + time[3]; $1 = ""; print substr($0, 2) }'
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
