#!/bin/sh
# Sends what it reads to the source {source} of Arvok. What cannot be sent now waits in a folder, and
# is sent before the next one; nothing is taken twice.
# KEY: the secret of the source, or the file of a certificate and its key. SPOOL: the folder; left
# out, one in the home folder.
set -eu
: "${KEY:?set KEY to the secret of the source}"
spool="${SPOOL:-$HOME/.arvok-spool/{source}}"
mkdir -p "$spool"
if [ "$(find "$spool" -name '*.message' | wc -l)" -ge 10000 ]; then
  echo "{source}: ten thousand messages wait in $spool, and this one is not kept" >&2
  exit 1
fi
name="$(date +%s)-$(hostname)-$$"
cat > "$spool/$name.part"
mv "$spool/$name.part" "$spool/$name.message"
for message in "$spool"/*.message; do
  [ -e "$message" ] || continue
  status=$({ {shown}; } | curl --silent --output /dev/null \
    --write-out '%{http_code}' --max-time 20 --config - \
    --header 'Content-Type: {content_type}' \
    --header "Idempotency-Key: $(basename "$message" .message)" \
    --data-binary "@$message" '{address}/in/{source}') || status=000
  case "$status" in
    2?? | 422) rm -f "$message" ;; # 422: it is kept there until the source can read it
    400 | 413) mv "$message" "$message.refused" ;;
    *) echo "{source}: not sent ($status), kept in $spool" >&2; exit 75 ;;
  esac
done
