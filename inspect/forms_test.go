package inspect

import (
	"strings"
	"testing"
)

// TestForms: with root's rights a runner is judged only where its line has a form of the
// table. Each line that is refused would run an account's code, or what nobody has looked at.
func TestForms(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]bool{
		"sh /opt/job": true, "sh -eux /opt/job a b": true, "bash -e -u /opt/job": true, "python3 -Iu /opt/job.py --since monday": true, "python3.11 /opt/job.py": true, "perl -w /opt/job.pl": true,
		"env LANG=C TZ=UTC /opt/job x": true, "env bash /opt/job": true, "env -S bash -e /opt/job": true, "nice -n 10 /opt/job": true, "timeout -k 5s 10m /opt/job": true, "timeout 30 /opt/job --loud": true,
		"ionice -c 3 nice -n 19 /opt/job": true, "setsid -f /opt/job": true, "nohup /opt/job": true, "stdbuf -oL /opt/job": true, "flock -n /run/lock /opt/job": true, "runuser -u maren -- /opt/job": true,
		"find /var/spool /srv -name *.tmp -mtime +7 -delete": true, "find /srv ( -name a -o -name b ) -print": true, "tar -czf /media/vault/a.tgz -C /srv press --exclude=tmp": true, "tar czf /media/vault/a.tgz /srv": true,
		"rsync -aHAX --delete --exclude=tmp /srv/ /media/vault/": true, "sort -u -o /srv/a /srv/b": true, "git -C /srv/press pull --ff-only": true, "apt-get -qq update": true, "make -s proofs": true,
		"ssh -q -o BatchMode=yes vault.larkspur.example uptime": true, "systemctl restart cups.service": true, "awk -f /opt/sum.awk /srv/a": true, "sed -f /opt/job.sed /srv/a": true, "java -jar /opt/job.jar": true,

		"bash -c ./go": false, "bash -euo pipefail -c ./go": false, "bash -c -e ./go": false, "sh -ec ./go": false, "bash --rcfile /home/maren/rc -i": false, "bash -i": false, "sh -s": false, "sh": false, "sh -o xtrace /opt/job": false,
		"python3 -Ic x": false, "python3 -m http.server": false, "python3 -c x": false, "python3": false, "python3 -": false, "perl -le x": false, "perl -e x": false, "perl -Mx /opt/job": false, "ruby -rx /opt/job": false,
		"node -pe x": false, "node --require x /opt/job": false, "awk -F: {system($1)}": false, "awk BEGIN{system(1)}": false, "sed 1e./go": false, "sed -n 1e": false, "sed -f /opt/x -e 1e": false, "sed -f /opt/x /srv/a -e1e": false, "make --eval=x": false, "make -f /home/maren/m": false, "make CC=./go": false,
		"env -C /home/maren ./go": false, "env -S bash -c go": true, "env -u X /opt/job": false, "env": false, "env A=1": false, "nice --adjustment 1 /opt/job": false, "nice /opt/job": true, "timeout --kill 5 10 /opt/job": false, "timeout -v 5 /opt/job": false,
		"find / -execdir ./go ;": false, "find / -exec /bin/sh -c x ;": false, "find / -ok x ;": false, "find / -fprint /etc/passwd": false, "find / -name": false, "find -files0-from x": false,
		"script -qc ./go": false, "su -lc ./go": false, "su - maren": false, "sudo ./go": false, "gdb -iex x": false, "vim +!go": false, "vi": false, "run-parts /home/maren/d": false, "xargs ./go": false, "start-stop-daemon --start -x ./go": false,
		"tar --checkpoint-act=exec=./go -cf /a /b": false, "tar -cf /a --use-compress-prog=./go /b": false, "tar -I ./go -cf /a /b": false, "tar cFf ./go /a /b": false, "tar --to-comm=./go -xf /a": false, "tar -xf /a --checkpoint=1": false,
		"rsync -e ./go /a b:/c": false, "rsync -ae./go /a b:/c": false, "rsync --rsh=./go /a b:/c": false, "rsync --rsync-path=x /a b:/c": false, "sort --compress-prog=./go /a": false, "split --filt=./go /a": false, "split --filter=./go /a": false,
		"git -c alias.x=!go x": false, "git --exec-path=/home/maren pull": false, "git -C /srv x": false, "git -C /srv fetch --upload-pack=./go": false, "ssh -oProxyCommand=./go x": false, "ssh -o ProxyCommand=./go x": false, "ssh -F /home/maren/c x": false,
		"sqlite3 /srv/a .shell": false, "apt-get -o DPkg::Pre-Invoke=./go update": false, "apt-get install x": false, "ld.so /bin/sh x": false, "ld-linux-x86-64.so.2 /bin/sh": false, "setarch x86_64 ./go": false, "linux64 ./go": false,
		"busybox sh -c ./go": false, "systemd-run ./go": false, "systemctl edit x": false, "journalctl -u x": false, "ip netns exec a ./go": false, "ip -batch x": false, "mount -t fuse ./go /mnt": false, "zip -TT ./go a": false, "wget --use-askpass=./go x": false, "chroot /srv ./go": false,
		"m4 /srv/x": false, "ed": false, "emacs --eval x": false, "man -P ./go ls": false, "less x": false, "docker run x": false, "watch ./go": false, "unshare ./go": false, "nsenter -t 1 ./go": false, "socat x": false, "nc -e ./go": false, "dc x": true, "xterm -e /opt/job": true, "xterm -T Press -e env bash /opt/job": true, "xterm": false, "xterm -hold -e /opt/job": false,
		"useradd -m -G press maren": true, "passwd -l maren": true, "useradd -R /home/maren/x tobias": false, "usermod --root=/home/maren/x tobias": false, "useradd -mR /home/maren/x tobias": false, "chage --roo /home/maren/x maren": false, "passwd -P /home/maren/x maren": false,
		"sysctl vm.swappiness=10": true, "sysctl -w kernel.core_pattern=|/home/maren/go": false, "sysctl -p /home/maren/c": false, "service cups restart": true, "service --x ../../home/maren/go start": false, "timedatectl set-timezone Europe/London": true,
		"timedatectl -H x set-timezone UTC": false, "install -m 644 /opt/a /opt/b": true, "install -s --strip-program=./go /opt/a /opt/b": false, "diff3 --diff-program=./go /a /b /c": false, "diff3 -m /a /b /c": true, "choom -n 100 -- /opt/job": true,
		"choom -n 100 ./go": false, "slattach -c ./go": false, "umount /media/vault": true, "umount -t fuse.x /media/vault": false, "loginctl terminate-user maren": true, "debconf ./go": false, "groff -P x": false, "savelog -x ./go /a": false, "xterm -xrm x -e /opt/job": false,
	} {
		argv := strings.Fields(line)
		runner := runnerOf(argv[0])
		if got := runner == "" || judged(runner, argv[1:]); got != want {
			t.Errorf("%s: can be judged: %v, want %v (a runner called %q)", line, got, want, runner)
		}
	}
}
