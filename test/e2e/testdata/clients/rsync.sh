# rsync and git.
mkdir -p "$WORK/tree/a"; echo 1 >"$WORK/tree/a/x"; echo 2 >"$WORK/tree/y"; ln -s y "$WORK/tree/z"; touch -d 2021-01-02T03:04:05Z "$WORK/tree/y"
rsync -a --itemize-changes "$WORK/tree/" harbour:sea/ | grep -v "^.d"
echo 3 >"$WORK/tree/y"; rm "$WORK/tree/a/x"
rsync -a --delete --itemize-changes --checksum "$WORK/tree/" harbour:sea/ | grep -v "^.d"
ssh harbour 'cd ~/sea; find . -printf "%p %y %s\n" | grep -v " d " | sort'
rsync -az harbour:sea/ "$WORK/back/" && diff -r "$WORK/tree" "$WORK/back" && echo same
ssh harbour 'git init -q --bare ~/sea/chart.git'
git clone -q harbour:sea/chart.git "$WORK/chart" 2>/dev/null
cd "$WORK/chart" && git checkout -q -b main && echo reef >notes && git add notes && git -c user.name=S -c user.email=s@skerry.test commit -qm Reef && git push -q origin main && ssh harbour 'git -C ~/sea/chart.git log --format=%s main'
git ls-remote --heads "ssh://harbour/home/crew/sea/chart.git" | cut -f2
