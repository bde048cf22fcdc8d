#!/bin/sh
# Holds the game to its budgets. Exit code 1: something was not kept; 2: something cannot be read.
set -eu
cd "$(dirname "$0")"
velocitas vet --check .
velocitas check . --junit netcode.xml --json netcode.json
