# A mounted folder.
ssh harbour "mkdir -p ~/sea"
mkdir -p "$WORK/mount"
sshfs -o idmap=user,ssh_command=ssh harbour:sea "$WORK/mount" || exit 1
cd "$WORK/mount"
echo keel >one; mkdir deep; mv one deep/; ln -s deep/one link; cat link
cp deep/one other; mv other deep/one && echo replaced
head -c 700000 /dev/urandom >noise; cp noise copy; cmp noise copy && echo same
truncate -s 3 copy; stat -c %s copy
chmod 600 copy; stat -c '%a %F' copy link deep
exec 3>held; rm held; echo still >&3; exec 3>&-; ls
rmdir deep 2>/dev/null || echo "not empty"
cat none 2>&1
printf 'a' >grow; printf 'b' >>grow; cat grow; echo
touch -d 2019-05-06T07:08:09Z grow; stat -c %Y grow
df . >/dev/null && echo counted
cd /; fusermount3 -u "$WORK/mount" 2>/dev/null || fusermount -u "$WORK/mount"
ssh harbour 'cd ~/sea; find . -printf "%p %y %m\n" | grep -v fuse_hidden | sort'
