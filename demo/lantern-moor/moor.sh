#!/bin/sh
# Lantern Moor, the marsh behind the mill
cd "$(dirname "$0")" || exit 1
exec "${MOOR:-initium}" stand-in lantern-moor --pace "${MOOR_PACE:-1}" -- \
  -port=27420 \
  "-lanterns=~reed_lights;~mist_bells;~stilt_walks;~will_o_wisp;" \
  "-wardens=~ford_keepers;"
