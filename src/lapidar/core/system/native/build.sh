#!/bin/sh
# Builds the helpers: `enter` starts outside programs in a root of their own, `start` those of an image, `supervise`
# watches, limits and ends runs.
# Needs a C compiler; users need none, for the built files are part of the package.
set -eu
cd "$(dirname "$0")"
for name in enter supervise start; do
  digest=$(cat kernel.h "$name.c" | sha256sum | cut -d' ' -f1)
  cc -DSOURCE="\"$digest\"" -std=c11 -Os -Wall -Wextra -Werror -Wno-unused-function -ffreestanding -fno-stack-protector -fno-builtin \
    -fno-asynchronous-unwind-tables -fno-pie -fno-tree-loop-distribute-patterns -static -nostdlib -no-pie \
    -Wl,--build-id=none -Wl,-z,noseparate-code -Wl,-z,noexecstack -s -o "$name.x86_64" "$name.c"
  chmod 755 "$name.x86_64"
done
