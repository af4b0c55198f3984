# sftp and scp, in both of its modes.
mkdir -p "$WORK/cargo/deep"; echo barrels >"$WORK/cargo/one"; echo oil >"$WORK/cargo/deep/two"; chmod 640 "$WORK/cargo/one"; touch -d 2020-02-03T04:05:06Z "$WORK/cargo/one"
ln -s one "$WORK/cargo/link"
cat >"$WORK/batch" <<B
pwd
mkdir sea
cd sea
put -pr $WORK/cargo
-mkdir cargo
ls -1 cargo
rename cargo/one cargo/first
-rename cargo/none cargo/x
ln -s first cargo/again
chmod 600 cargo/deep/two
put $WORK/cargo/one cargo/first
-rmdir cargo/deep
rm cargo/deep/two
rmdir cargo/deep
-get none
-ls none
get -r cargo $WORK/back
B
sftp -b "$WORK/batch" harbour 2>&1 | sed "s#$WORK##g"
ssh harbour 'cd ~/sea; find . -printf "%p %y %m %l\n" | sort'
scp -rp "$WORK/cargo" harbour:sea/scp 2>&1; scp -Orp "$WORK/cargo" harbour:sea/old 2>&1
ssh harbour 'cd ~/sea; find scp old -printf "%p %y %m %T@\n" | sed "/two/s/ [0-9.]*$//" | grep -v /link | grep -v " d " | sort'
scp "harbour:sea/scp/*e*" "$WORK/" 2>&1; scp -O "harbour:sea/old/o*" "$WORK/globbed" 2>&1; cat "$WORK/globbed"
scp -q harbour:sea/none "$WORK/" 2>&1; echo "status $?"
scp -O -q harbour:sea/none "$WORK/" 2>&1; echo "status $?"
scp -3 harbour:sea/scp/one harbour:sea/third && ssh harbour 'cat ~/sea/third'
echo 'ls -l' | sftp -q harbour:sea/scp 2>&1 | awk '/one|deep/ {print $1, $5, $NF}'
