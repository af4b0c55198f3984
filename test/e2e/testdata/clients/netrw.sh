# Vim, over netrw.
ssh harbour 'mkdir -p ~/sea; printf "one\ntwo\n" > ~/sea/log'
edit() { timeout 60 vim -N -u NONE -es --cmd 'filetype plugin off' -c 'runtime plugin/netrwPlugin.vim' -c 'let g:netrw_silent=1' "$@" </dev/null 2>/dev/null | grep -v ^Fetching; }
edit -c 'edit scp://harbour/sea/log' -c '%s/one/three/' -c 'write' -c 'qall!'
ssh harbour 'cat ~/sea/log'
edit -c 'edit sftp://harbour/sea/log' -c "write! $WORK/seen" -c 'qall!'
cat "$WORK/seen"
