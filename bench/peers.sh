#!/usr/bin/env bash
# Installs, from Debian, the programs that bench measures beside. Needs root.
set -euo pipefail
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends git findutils imagemagick zip unzip p7zip-full coreutils xdelta3 nginx-light nats-server openssh-client openssh-server rsync gcc libc6-dev libembree-dev >/dev/null
