#!/bin/sh
set -e
# HARBOUR and FEET are the options; harbour is there because this feature depends on it.
harbour | grep -qx "$HARBOUR" || { echo "the line does not call at $HARBOUR" >&2; exit 1; }
unit=m; height=3.1
if [ "$FEET" = true ]; then unit=ft; height=10.2; fi
cat > /usr/local/bin/tide <<SCRIPT
#!/bin/sh
if [ "\$1" = --version ]; then echo "tide 2.0.1"; exit; fi
echo "$HARBOUR: high water 04:10 and 16:35, $height $unit"
SCRIPT
chmod 755 /usr/local/bin/tide
