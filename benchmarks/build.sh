#!/usr/bin/env bash
# Compiles the benchmarks to native code, as the program that users get, into artifacts/benchmarks.
set -euo pipefail
cd -- "$(dirname -- "$(readlink -f -- "${BASH_SOURCE[0]}")")/.."
source src/instructions.sh
dotnet publish benchmarks/Transferra.Benchmarks -c Release --use-current-runtime -p:PublishAot=true -p:RunAnalyzers=false -p:DebugType=none \
  -p:GenerateDocumentationFile=false "${instructions[@]}" -o artifacts/benchmarks --nologo -v quiet
