# Another library, which keeps many sessions in one connection.
import asyncio, os
import asyncssh

async def main():
    async with asyncssh.connect(os.environ["HOST"], int(os.environ["PORT"]), username=os.environ["LOGIN"], client_keys=[os.environ["KEY"]], known_hosts=None, agent_path=None) as c:
        r = await c.run("echo out; echo err >&2; exit 4")
        print(repr(r.stdout), repr(r.stderr), r.exit_status)
        r = await c.run("cat", input="typed")
        print(repr(r.stdout))
        r = await c.run("kill -TERM $$")
        print("signal", r.exit_signal and r.exit_signal[0], r.exit_status)
        many = await asyncio.gather(*[c.run(f"echo {n}") for n in range(9)])
        print([m.stdout.strip() for m in many])
        p = await c.create_process("trap 'echo caught; exit 3' INT; echo ready; sleep 20 & wait")
        print((await p.stdout.readline()).strip())
        p.send_signal("INT")
        print((await p.stdout.readline()).strip())
        p.close()
        p = await c.create_process("read x; echo got $x; stty size", term_type="xterm", term_size=(90, 30))
        p.stdin.write("wind\n")
        out = await p.stdout.read()
        print("got wind" in out, "30 90" in out)
        async with c.start_sftp_client() as s:
            await s.makedirs("sea/deep")
            async with s.open("sea/one", "w") as f:
                await f.write("keel" * 50000)
            await s.copy("sea/one", "sea/deep/copy")
            print(await s.getsize("sea/deep/copy"), sorted(set(await s.listdir("sea")) - {".", ".."}), await s.realpath("."), await s.exists("sea/none"))
            await s.symlink("one", "sea/link"); print(await s.readlink("sea/link"), await s.islink("sea/link"))
            try:
                await s.remove("sea/none")
            except asyncssh.SFTPNoSuchFile:
                print("no such file")
            print(sorted(await s.glob("sea/*")))
            v = await s.statvfs("sea"); print(v.bsize > 0)
        async def upper(reader, writer):
            writer.write((await reader.read(9)).upper()); writer.close()
        there = await asyncio.start_server(upper, "127.0.0.1", 0)
        port = there.sockets[0].getsockname()[1]
        l = await c.forward_remote_port("127.0.0.1", 0, "127.0.0.1", port)
        r = await c.run(f"python3 -c \"import socket; s=socket.create_connection(('127.0.0.1', {l.get_port()})); s.sendall(b'back'); print(s.recv(9))\"")
        print(r.stdout.strip())
        r = await c.run("true"); print(r.exit_status)

asyncio.run(asyncio.wait_for(main(), 60))
