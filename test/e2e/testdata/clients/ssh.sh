# ssh with its usual options.
ssh harbour 'echo out; echo err >&2; exit 3' 2>"$WORK/err"; echo "status $?"; cat "$WORK/err"
echo typed | ssh harbour cat
ssh harbour 'kill -TERM $$' ; echo "signalled $?"
ssh harbour 'printf "%s " "$HOME" "$USER" "$LOGNAME" "$SHELL" "$(umask)"; echo'
ssh harbour 'test -t 0 && echo terminal || echo none'
ssh -tt harbour 'test -t 0 && echo terminal; stty size' </dev/null | tr -d '\r'
printf 'echo piped; exit 5\n' | ssh -T harbour; echo "status $?"
ssh harbour 'echo "a b"   "$(echo c)" \\d'
ssh -n harbour 'cat | wc -c'
ssh harbour 'head -c 3000000 /dev/zero' | wc -c
head -c 3000000 /dev/zero | ssh harbour 'wc -c'
ssh -C harbour 'echo compressed'
ssh harbour 'exec >&-; exec 2>&-; sleep 0.2; exit 6'; echo "status $?"
ssh -o ControlMaster=auto -o ControlPath="$WORK/master" -o ControlPersist=20 harbour 'echo first'
ssh -o ControlPath="$WORK/master" harbour 'echo second'
ssh -o ControlPath="$WORK/master" -O exit harbour 2>&1
ssh -W 127.0.0.1:9 harbour </dev/null 2>/dev/null; echo "refused $?"
