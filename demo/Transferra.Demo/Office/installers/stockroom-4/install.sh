#!/bin/sh
# Stand-in for the vendor's installer:  sh install.sh PROGRAM-FOLDER
cp "$(dirname "$0")/stockroom.ini" "$1/stockroom.ini"
