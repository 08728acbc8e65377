#!/bin/sh
# Stand-in for what an office tells its people with: a line in messages.txt, which the stand-in for a workstation reads.
printf '%s\n' "$1" >>"$(dirname "$0")/messages.txt"
