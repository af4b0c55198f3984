# A library that many programs are made with.
import os, stat
import paramiko, logging
logging.disable()

client = paramiko.SSHClient()
client.set_missing_host_key_policy(paramiko.AutoAddPolicy())
client.connect(os.environ["HOST"], int(os.environ["PORT"]), os.environ["LOGIN"], key_filename=os.environ["KEY"], look_for_keys=False, allow_agent=False)
_, out, err = client.exec_command("echo out; echo err >&2; exit 4")
print(out.read(), err.read(), out.channel.recv_exit_status())
stdin, out, _ = client.exec_command("cat")
stdin.write("typed"); stdin.channel.shutdown_write()
print(out.read())
_, out, _ = client.exec_command("kill -KILL $$")
print("signalled", out.channel.recv_exit_status())
_, out, _ = client.exec_command("tty; stty size", get_pty=True)
print(out.read().split(b"\r\n")[1:])
shell = client.invoke_shell(width=101, height=33)
shell.send(b"PS1=; stty -echo\n"); shell.send(b"echo si''ze $(stty size); exit 7\n")
text = b""
while not shell.exit_status_ready() or shell.recv_ready():
    text += shell.recv(4096)
print(b"size 33 101" in text, shell.recv_exit_status())

sftp = client.open_sftp()
print(sftp.normalize("."))
sftp.mkdir("sea"); sftp.chdir("sea")
with sftp.open("one", "w") as f:
    f.write("keel" * 100000)
with sftp.open("one") as f:
    f.prefetch(); print(len(f.read()))
with sftp.open("one", "r+") as f:
    f.seek(4); f.write("DECK"); f.seek(0); print(f.read(8)); f.truncate(6)
with sftp.open("one", "a") as f:
    f.write("!")
print(sftp.stat("one").st_size, stat.filemode(sftp.stat("one").st_mode))
sftp.symlink("one", "link"); print(sftp.readlink("link"), stat.S_ISLNK(sftp.lstat("link").st_mode))
sftp.chmod("one", 0o600); sftp.utime("one", (1, 2)); print(sftp.stat("one").st_mtime, oct(sftp.stat("one").st_mode))
sftp.posix_rename("one", "two")
with sftp.open("one", "w") as f:
    f.write("x")
for what in (lambda: sftp.rename("one", "two"), lambda: sftp.open("none"), lambda: sftp.rmdir("two"), lambda: sftp.mkdir("two"), lambda: sftp.listdir("none"), lambda: sftp.open("one", "x")):
    try:
        what(); print("done")
    except IOError as e:
        print(type(e).__name__, e.errno)
print(sorted(sftp.listdir()))

# A port forward inside.
_, out, _ = client.exec_command("python3 -c \"import socket; s=socket.socket(); s.bind(('127.0.0.1', 0)); s.listen(); print(s.getsockname()[1], flush=True); c,_=s.accept(); c.sendall(c.recv(9).upper())\"")
port = int(out.readline())
channel = client.get_transport().open_channel("direct-tcpip", ("127.0.0.1", port), ("127.0.0.1", 1))
channel.sendall(b"harbour"); print(channel.recv(9))
try:
    client.get_transport().open_channel("direct-tcpip", ("127.0.0.1", 1), ("127.0.0.1", 1)); print("opened")
except paramiko.ChannelException as e:
    print("refused", e.code)
# And one back.
transport = client.get_transport()
back = transport.request_port_forward("127.0.0.1", 0)
_, out, _ = client.exec_command(f"python3 -c \"import socket; socket.create_connection(('127.0.0.1', {back})).sendall(b'back')\"")
came = transport.accept(20)
print("came", came is not None and came.recv(9))
transport.cancel_port_forward("127.0.0.1", back)
client.close()
