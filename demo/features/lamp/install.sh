#!/bin/sh
set -e
mkdir -p /usr/local/share/skerry
cat > /usr/local/share/skerry/light-the-lamp <<'SCRIPT'
#!/bin/sh
date -u +%FT%TZ > /run/lamp
chmod 644 /run/lamp
SCRIPT
chmod 755 /usr/local/share/skerry/light-the-lamp
