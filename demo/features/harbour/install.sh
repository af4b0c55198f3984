#!/bin/sh
set -e
mkdir -p "$(dirname "$SKERRY_HARBOURS")"
printf '%s\n' "North Quay" "Lamb Island" "Far Skerry" > "$SKERRY_HARBOURS"
cat > /usr/local/bin/harbour <<'SCRIPT'
#!/bin/sh
if [ "$1" = --version ]; then echo "harbour 1.1.0"; else cat "$SKERRY_HARBOURS"; fi
SCRIPT
chmod 755 /usr/local/bin/harbour
echo "harbours of the line: $(wc -l < "$SKERRY_HARBOURS")"
