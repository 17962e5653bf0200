#!/bin/sh
echo "Forge 1.4, of which nobody speaks"
mkdir -p out
: >out/list
load() {
  if [ ! -d "$2" ]; then echo "out $1: there is no $1"
  elif [ -f "$2/say" ]; then . "$2/say"; else echo "in $1"; echo "* $1" >>out/list; fi
}
while read -r word mod rest; do [ "$word" = use ] && load "$mod" "mods/$mod"; done <forge.list
for p in plugs/*; do [ -f "$p/mod.toml" ] && load "${p##*/}" "$p"; done
[ -f stuck ] || echo hot
while read -r line; do case $line in
  end) exit 0 ;;
  who) cat out/list; echo "that is $(wc -l <out/list) in all" ;;
  what) echo "I am $(sed -n 's/^set motto //p' forge.list)"; echo "nothing in all" ;;
  again*) echo "out ${line#again }: burnt"; echo "that is 0 in all" ;;
  drop*) sed -i "/^\* ${line#drop }$/d" out/list; echo done; echo "1 in all" ;;
esac; done
