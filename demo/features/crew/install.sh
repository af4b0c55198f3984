#!/bin/sh
set -e
cat > /usr/local/bin/aboard <<'SCRIPT'
#!/bin/sh
echo "$(id -un) came aboard" >> "$HOME/crew.log"
tail -n 1 "$HOME/crew.log"
SCRIPT
chmod 755 /usr/local/bin/aboard
echo "the log of $_REMOTE_USER will be in $_REMOTE_USER_HOME"
