# lftp, over SFTP.
mkdir -p "$WORK/load/in"; echo 1 >"$WORK/load/a"; echo 2 >"$WORK/load/in/b"
go() { lftp -c "set sftp:connect-program 'ssh -a -x'; set sftp:auto-confirm yes; set net:max-retries 2; set net:timeout 20; open sftp://$LOGIN:x@harbour; $1" 2>&1; }
go "mkdir -p sea; mirror -R $WORK/load sea/load; cls -1 sea/load; find sea/load"
go "cd sea/load; mv a renamed; cat renamed; chmod 600 renamed; rm in/b; rmdir in; cls -1; put $WORK/load/a -o again; get again -o $WORK/fetched; mkdir deep; mirror . $WORK/down"
cat "$WORK/fetched"; (cd "$WORK/down" && find . | sort)
go 'cat sea/none' | sed 's/.*: //'
ssh harbour 'cd ~/sea/load; stat -c "%n %a" * | sort'
