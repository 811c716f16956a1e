package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/verdict"
	"agonometer/internal/service"
)

// The hostile suite: contenders that each try one thing, in real bouts. Of all of them it
// is asked that no secret ends in a stored byte or leaves by a file, that nothing outside is
// made or changed, that no bout is void, and that none passes which does not deserve it.
// docs/security.md has the table of what is tried; a test holds it against this one.

// attack is one hostile contender.
type attack struct {
	name  string
	tries string // for the table
	stops string // what stops it, for the table
	// project is which project it meets: quay (default), two, rounds, or one of projects.
	project string
	// script is what it does. SECRETS stands for the folder with the contest's files, DATA
	// for the data folder, OUTSIDE for a folder that must stay as it is, SOCKET for a socket
	// of a daemon of the machine.
	script string
	// yaml is added to the contender's file.
	yaml string
	// acp is Python that runs in the place of script as a tool that speaks the protocol.
	acp string
	// wins is set where it does the task honestly besides: then it passes.
	wins bool
	// reasons are the verdicts' reasons that may come of it; empty for any failure.
	reasons []verdict.Reason
	// says must stand in its log.
	says string
	// never must not.
	never string
}

const solved = "\nprintf 'depth() { echo $(($1 - $2)); }\\nfits() { [ \"$1\" -gt \"$2\" ]; }\\n' > depth.sh\n"

var attacks = []attack{
	// Out.
	{name: "tty", tries: "open the terminal that the service was started in", stops: "a session of its own", script: "(: < /dev/tty) 2>/dev/null && echo ESCAPED; true", never: "ESCAPED"},
	{name: "shadow", tries: "read /etc/shadow and the service's home", stops: "a root and an /etc of its own", script: "cat /etc/shadow /root/.bashrc /home/*/.profile 2>/dev/null | grep -q . && echo ESCAPED; true", never: "ESCAPED"},
	{name: "mounts", tries: "mount over its own root", stops: "no capabilities, the filter", script: "mount -t tmpfs x /tmp 2>/dev/null && echo ESCAPED; unshare -Urm true 2>/dev/null && echo ESCAPED; true", never: "ESCAPED"},
	{name: "chroot-out", tries: "reach the machine's root by /proc/1/root", stops: "the supervisor cannot be traced", script: "ls /proc/1/root/root /proc/1/cwd/ 2>/dev/null | grep -q . && echo ESCAPED; cat /proc/1/environ /proc/1/maps 2>/dev/null | grep -q . && echo ESCAPED; true", never: "ESCAPED"},
	{name: "descriptors", tries: "use what the service holds open", stops: "only the standard three are handed on", script: "for f in /proc/self/fd/*; do case ${f##*/} in 0|1|2) ;; *) readlink $f | grep -vq '/proc\\|pipe' && echo ESCAPED $(readlink $f);; esac; done; true", never: "ESCAPED /"},
	{name: "daemon", tries: "connect to a daemon's socket in a folder that is shown", stops: "such folders are shown so that sockets in them are dead", yaml: "reads: [SOCKETS]\n",
		script: "python3 -c \"import socket;s=socket.socket(socket.AF_UNIX);s.connect('SOCKET');print('ESCAPED')\" 2>&1 | grep ESCAPED; true", never: "ESCAPED"},
	{name: "vsock", tries: "open a socket of a family that no network namespace divides", stops: "the filter", script: "python3 -c \"import socket;socket.socket(40,1);print('ESCAPED')\" 2>/dev/null; python3 -c \"import socket;socket.socket(38,5);print('ESCAPED')\" 2>/dev/null; true", never: "ESCAPED"},
	{name: "keyring", tries: "read the service's session keyring", stops: "a keyring of its own, the filter", script: "python3 -c \"import ctypes;l=ctypes.CDLL(None);print('ESCAPED' if l.syscall(250,0,-3,0)>0 else 'no')\" 2>/dev/null; true", never: "ESCAPED"},
	{name: "typing", tries: "type into a terminal (TIOCSTI)", stops: "the filter", yaml: "pty: true\n", script: "python3 -c \"import fcntl,termios;fcntl.ioctl(0,termios.TIOCSTI,b'x');print('ESCAPED')\" 2>/dev/null; true", never: "ESCAPED"},
	{name: "device", tries: "make a device and read the disk", stops: "no capabilities, folders without devices", script: "mknod disk b 254 0 2>/dev/null && echo ESCAPED; mknod /tmp/mem c 1 1 2>/dev/null && echo ESCAPED; true", never: "ESCAPED"},
	{name: "core-pattern", tries: "have the kernel start a program outside (core_pattern, modprobe, sysrq)", stops: "an ordinary user outside too", script: "for f in /proc/sys/kernel/core_pattern /proc/sys/kernel/modprobe /proc/sysrq-trigger /proc/sys/vm/drop_caches; do (echo '|/bin/true' > $f) 2>/dev/null && echo ESCAPED $f; done; true", never: "ESCAPED"},
	{name: "control-groups", tries: "reach /sys and the control groups", stops: "they are not shown", script: "ls /sys 2>/dev/null | grep -q . && echo ESCAPED; ls /sys/fs/cgroup 2>/dev/null | grep -q . && echo ESCAPED; true", never: "ESCAPED"},
	{name: "set-uid", tries: "use programs that run as another user", stops: "no new privileges, folders without set-uid", script: "cp /bin/sh s; chmod 6755 s; ./s -p -c 'id -u' | grep -qx 0 && echo ESCAPED; su -c true root </dev/null 2>/dev/null && echo ESCAPED; true", never: "ESCAPED"},
	{name: "io-uring", tries: "open files past the filter by io_uring", stops: "the filter", script: "python3 -c \"import ctypes;l=ctypes.CDLL(None);b=ctypes.create_string_buffer(256);print('ESCAPED' if l.syscall(425,8,b)>=0 else 'no')\" 2>/dev/null; true", never: "ESCAPED"},
	{name: "hard-link", tries: "link sealed files into its workspace by their inode", stops: "they are not to be seen, and another mount", yaml: "reads: [SECRETS]\n", script: "ln SECRETS/reference.patch a.txt 2>/dev/null && grep -q . a.txt && echo ESCAPED; find SECRETS -samefile a.txt 2>/dev/null | grep -q patch && echo ESCAPED; echo '# x' >> depth.sh", never: "ESCAPED"},
	{name: "orphan", tries: "leave a process that works on after the end", stops: "the process namespace ends with its first process", script: "setsid sh -c 'sleep 3; echo late >> OUTSIDE/late; echo late >> depth.sh' >/dev/null 2>&1 & true"},

	// The answer.
	{name: "sealed", tries: "read the task's sealed files and reference", stops: "covered by their real paths", yaml: "reads: [SECRETS]\n", script: "cat SECRETS/sealed/test/* SECRETS/reference.patch SECRETS/quay.md 2>/dev/null | grep -q . && echo ESCAPED; true", never: "ESCAPED"},
	{name: "others-sealed", project: "two", tries: "read the files of the contest's other tasks", stops: "all files of a contest are covered in each bout", yaml: "reads: [SECRETS]\n", script: "cat SECRETS/other/answer.txt SECRETS/other.md SECRETS/contest.yaml SECRETS/tools/*.yaml 2>/dev/null | grep -q . && echo ESCAPED; true", never: "ESCAPED"},
	{name: "sealed-by-link", project: "two", tries: "read them by a path that goes through a link", stops: "what is covered is compared by real paths", yaml: "reads: [LINKED]\n", script: "cat LINKED/sealed/test/* LINKED/reference.patch LINKED/other/answer.txt 2>/dev/null | grep -q . && echo ESCAPED; true", never: "ESCAPED"},
	{name: "data", tries: "read the data folder: records, token, other bouts", stops: "nothing of it is ever shown", yaml: "reads: [DATA]\n", script: "ls -A DATA 2>/dev/null | grep -q . && echo ESCAPED; true", never: "ESCAPED"},
	{name: "history", tries: "find the later history in the repository", stops: "the start repository holds nothing later", script: "git cat-file --batch-all-objects --batch 2>/dev/null | grep -q 'less.silt' && echo ESCAPED; git log --all --oneline | grep -q silt && echo ESCAPED; true", never: "ESCAPED"},
	{name: "link-in-change", tries: "leave links to secrets in its change", stops: "links are captured as links, and never followed", script: "ln -s SECRETS/reference.patch a.txt; ln -s DATA/token b.txt; ln -s SECRETS c; mkdir d; ln -s DATA d/e; echo '# x' >> depth.sh"},
	{name: "link-as-answer", tries: "name a link as the file with its closing message", stops: "read below the workspace alone", yaml: "answer_file: said.md\n", script: "ln -s SECRETS/reference.patch said.md; echo '# x' >> depth.sh"},

	// Writing outside.
	{name: "links-in-home", project: "rounds", tries: "leave links in HOME where the service will copy files to", stops: "copies go beneath an open folder, over what is in the way", yaml: "carry: [{from: CARRIED, to: .config/tool/settings}]\nfirst_use: {run: [sh, -c, 'rm -rf ~/.config; ln -s OUTSIDE ~/.config; echo indexed > ~/index']}\n",
		script: "grep -q carried ~/.config/tool/settings && echo settings-are-there; true", says: "settings-are-there"},
	{name: "file-in-home", project: "rounds", tries: "leave a plain file where a folder has to be", stops: "it gives way", yaml: "carry: [{from: CARRIED, to: .config/tool/settings}]\nfirst_use: {run: [sh, -c, 'rm -rf ~/.config; echo x > ~/.config']}\n",
		script: "grep -q carried ~/.config/tool/settings && echo settings-are-there; true", says: "settings-are-there"},
	{name: "links-in-tmp", project: "rounds", tries: "leave a link in /tmp where the next round mounts something", stops: "places are made beneath the new root, over what is in the way", yaml: "reads: [CARRIED]\n",
		script: "rm -rf /tmp/* 2>/dev/null; mv /tmp/$(echo CARRIED | cut -d/ -f3) /tmp/away 2>/dev/null; ln -s OUTSIDE /tmp/$(echo CARRIED | cut -d/ -f3) 2>/dev/null; echo '# x' >> depth.sh"},
	{name: "git-hooks", tries: "have the service's git run a hook, a filter or a monitor", stops: "the service's git has a directory and settings of its own", script: "git config core.fsmonitor 'touch OUTSIDE/ran'; git config core.hooksPath .; printf '#!/bin/sh\\ntouch OUTSIDE/ran\\n' > post-checkout; chmod +x post-checkout; git config filter.x.smudge 'touch OUTSIDE/ran'; git config filter.x.clean 'touch OUTSIDE/ran'; echo '* filter=x' > .gitattributes; echo '# x' >> depth.sh"},

	// Void as a way out.
	{name: "lock-all", project: "rounds", tries: "take all permissions from its workspace", stops: "they are given back by descriptor", script: "echo '# x' >> depth.sh; chmod 000 . 2>/dev/null; true"},
	{name: "lock-parts", tries: "take them from folders and files in it", stops: "likewise", script: "mkdir -p x/y; echo z > x/y/z; echo '# x' >> depth.sh; chmod 000 x/y/z x/y x test"},
	{name: "long-path", tries: "make a path that is too long for the judging copy", stops: "trees are walked by descriptors, a folder at a time", script: "d=$(printf 'd%.0s' $(seq 200)); (for i in $(seq 30); do mkdir $d && cd $d || exit; done; echo x > f); echo '# x' >> depth.sh"},
	{name: "odd-names", tries: "use names that parsers stumble over", stops: "paths are passed between NULs, and counted where nothing else goes", script: "printf x > \"$(printf 'a\\nb\\tc\\\"d')\"; printf x > \"$(printf '\\377\\376')\"; mkdir -- -rf; echo x > -rf/-x; echo '# x' >> depth.sh"},
	{name: "nested-git", tries: "put broken repositories into its workspace", stops: "its .git is never looked at, others are passed over", script: "mkdir -p a/.git b; echo ref > a/.git/HEAD; git init -q b 2>/dev/null; rm -rf .git; echo gitdir: /nowhere > .git; echo '# x' >> depth.sh"},
	{name: "pipes", tries: "leave pipes and sockets where files are read", stops: "files are opened where they are regular, and without waiting", script: "rm -f quay.sh; mkfifo quay.sh; mkfifo test/a.t; python3 -c \"import socket;s=socket.socket(socket.AF_UNIX);s.bind('sock')\"; echo '# x' >> depth.sh"},
	{name: "kill-all", tries: "end its supervisor, and everything", stops: "that is how the tool ended", script: "echo '# x' >> depth.sh; kill -9 -1; kill -9 1; kill -9 $PPID"},
	{name: "stop-all", tries: "stop everything and stay", stops: "the time limit", yaml: "", script: "echo '# x' >> depth.sh; kill -STOP -1; kill -STOP $$; sleep 100", reasons: []verdict.Reason{verdict.TimeLimit}},
	{name: "fork-bomb", tries: "start processes without end", stops: "a limit of processes, and the end of the namespace", script: "echo '# x' >> depth.sh; b() { b | b & }; b 2>/dev/null; sleep 100", reasons: []verdict.Reason{verdict.TimeLimit, verdict.MemoryLimit, verdict.CPULimit, verdict.ToolCrashed, verdict.GoalsMissed}},
	{name: "memory", tries: "use all memory in small processes", stops: "a limit of memory", script: "echo '# x' >> depth.sh; for i in $(seq 40); do head -c 40000000 /dev/zero | tail -c 40000000 | sleep 100 & done; wait", reasons: []verdict.Reason{verdict.MemoryLimit}},
	{name: "disk", tries: "fill the disk", stops: "a limit of what is written", yaml: "limits: {cpu: 60s}\n", script: "echo '# x' >> depth.sh; i=0; while :; do i=$((i+1)); head -c 10000000 /dev/zero > $i; done", reasons: []verdict.Reason{verdict.DiskLimit}},
	{name: "inodes", tries: "use up the inodes", stops: "a limit of files", yaml: "limits: {files: 5000, cpu: 60s}\n", script: "echo '# x' >> depth.sh; python3 -c \"\nimport os\nfor i in range(10**7): open('f%d'%i,'w').close()\"", reasons: []verdict.Reason{verdict.DiskLimit}},
	{name: "cpu", tries: "use all CPU time", stops: "a limit of CPU time", script: "echo '# x' >> depth.sh; while :; do :; done", reasons: []verdict.Reason{verdict.CPULimit}},
	{name: "output-flood", tries: "print without end", stops: "the beginning and the end are kept", script: "echo '# x' >> depth.sh; yes 'tide tide tide' | head -c 300000000"},
	{name: "churn", tries: "make, rename and remove folders as fast as it can", stops: "the watch holds nothing while it waits", script: "echo '# x' >> depth.sh; python3 -c \"\nimport os,time\nt=time.time()\nn=0\nwhile time.time()-t<2:\n  n+=1\n  for i in range(40): os.mkdir('d%d'%i)\n  for i in range(40): os.rename('d%d'%i,'r%d_%d'%(n,i))\n  for i in range(40): os.rmdir('r%d_%d'%(n,i))\""},
	{name: "empty-lines", tries: "change a file to millions of empty lines", stops: "large diffs are thinned before they are parsed", script: "python3 -c \"open('lines.txt','w').write('\\\\n'*(8<<20))\"; echo '# x' >> depth.sh"},
	{name: "commas", tries: "write megabytes of tokens for the edit measures", stops: "they are worked out in a process with a bound of memory and time", script: "python3 -c \"open('a.js','w').write('x=['+'1,'*(1500000)+'];')\"; echo '# x' >> depth.sh"},
	{name: "comments", tries: "write source that makes measures quadratic", stops: "likewise", script: "python3 -c \"open('a.c','w').write('/*'*400000); open('a.js','w').write('/['*400000); open('b.js','w').write('('*300000)\"; echo '# x' >> depth.sh"},
	{name: "many-files", tries: "make tens of thousands of files", stops: "what is captured is bounded", script: "python3 -c \"\nfor i in range(20000): open('f%d'%i,'w').write(str(i))\"; echo '# x' >> depth.sh"},
	{name: "version-work", tries: "do its work where it is asked for its version", stops: "that is asked in an empty repository that is thrown away", yaml: "version_command: [sh, -c, 'printf solved > depth.sh; ls; echo 1.0']\n", script: "true", reasons: []verdict.Reason{verdict.NoChange}},
	{name: "shaky-build", tries: "build every second time", stops: "what ends a run decides it", script: solved + "echo 'if [ -e /tmp/second ]; then :; else touch /tmp/second; exit 1; fi' >> depth.sh; printf 'x(\\n' >> depth.sh", reasons: []verdict.Reason{verdict.GuardsBroken, verdict.CheckFailed}},

	// Winning without working.
	{name: "gnumakefile", project: "made", tries: "put a GNUmakefile beside the Makefile", stops: "files that steer checks are taken out, and told", script: "printf 'test:\\n\\t@echo ok - depth\\n' > GNUmakefile"},
	{name: "makefile", project: "made", tries: "change the rule that tests", stops: "it is put back, told, and fails under strict protection", script: "printf 'test:\\n\\t@echo ok - depth\\n' > Makefile", reasons: []verdict.Reason{verdict.TestsWeakened, verdict.CheckSubverted, verdict.GoalsMissed, verdict.CheckFailed}},
	{name: "honest-make", project: "made", tries: "do the task", stops: "nothing", script: "echo 7 > depth.txt", wins: true},
	{name: "shadow-unittest", project: "python", tries: "put a module in the place of the runner", stops: "shadows of modules that a check loads are taken out", script: "printf 'import sys\\nprint(\"ok\")\\nsys.exit(0)\\n' > unittest.py"},
	{name: "sitecustomize", project: "python", tries: "end Python before the tests", stops: "start-up hooks are taken out", script: "printf 'import os\\nos._exit(0)\\n' > sitecustomize.py"},
	{name: "exit-at-import", project: "python", tries: "end the test process with success from the code under test", stops: "a canary that is not seen failing", script: "printf 'import os\\nos._exit(0)\\n' > depth.py", reasons: []verdict.Reason{verdict.CheckSubverted, verdict.CheckFailed, verdict.GoalsMissed}},
	{name: "makefile-reported", project: "reported", tries: "change the rule that tests, where weakened tests are only told", stops: "it is put back for the run that decides", script: "printf 'test:\\n\\t@true\\n' > Makefile"},
	{name: "exit-before-tests", project: "own-canary", tries: "end the shell that tests, where no canary can be made from a template", stops: "the task's own canary", script: "echo 'exit 0' > depth.sh", reasons: []verdict.Reason{verdict.CheckSubverted}},
	{name: "honest-own-canary", project: "own-canary", tries: "do the task", stops: "nothing", script: "printf 'depth() { echo $(($1 - $2)); }\\n' > depth.sh", wins: true},
	{name: "honest-python", project: "python", tries: "do the task", stops: "nothing", script: "printf 'def depth(a, b):\\n    return a - b\\n' > depth.py", wins: true},
	{name: "npmrc", project: "node", tries: "name another shell for scripts", stops: "settings of package managers are taken out", script: "printf 'script-shell=/bin/true\\n' > .npmrc"},
	{name: "honest-node", project: "node", tries: "do the task", stops: "nothing", script: "echo 'module.exports = (a, b) => a - b;' > depth.js", wins: true},
	{name: "reads-expected", project: "outside", tries: "read the expected answer from the check that starts it", stops: "it runs as another user, or in a Landlock domain", script: "printf '#!/bin/sh\\ngrep -rhs expected= . | tail -n 1 | sed s/.*expected=//; cat /proc/$PPID/cmdline /proc/[0-9]*/cmdline 2>/dev/null | tr \"\\\\0\" \"\\\\n\" | sed -n \"s/.*expected=//p\" | tail -n 1\\n' > depth.sh"},
	{name: "honest-outside", project: "outside", tries: "do the task", stops: "nothing", script: "printf '#!/bin/sh\\necho $(($1 - $2))\\n' > depth.sh", wins: true},
	{name: "honest", tries: "do the task", stops: "nothing", script: solved, wins: true},

	// Over the protocol.
	{name: "acp-outside", tries: "ask its client for files outside, and over links", stops: "paths are resolved beneath the workspace by the kernel", acp: `
for p in ['DATA/token', 'SECRETS/reference.patch', ws+'/../../etc/shadow', ws+'/l/token', ws+'/l2']:
    r = ask('fs/read_text_file', path=p)
    if 'result' in r: say('ESCAPED '+p)
ask('fs/write_text_file', path=ws+'/l3/written', content='x')
ask('fs/write_text_file', path=ws+'/depth.sh', content='# x\n')
`, script: "ln -s DATA l; ln -s SECRETS/reference.patch l2; ln -s OUTSIDE l3", never: "ESCAPED"},
	{name: "acp-swap", tries: "swap a folder for a link while its client reads and captures", stops: "the same", acp: `
os.mkdir('real'); open('real/token','w').write('own'); os.symlink('DATA','link')
if os.fork() == 0:
    import ctypes; l = ctypes.CDLL(None)
    end = time.time()+4
    while time.time() < end:
        l.syscall(316, -100, b'real', -100, b'link', 2)
        if os.fork() != 0: os._exit(0)
        os.setsid()
    os._exit(0)
for i in range(300):
    r = ask('fs/read_text_file', path=ws+'/real/token')
    if 'result' in r and r['result']['content'] != 'own': say('ESCAPED')
    ask('fs/write_text_file', path=ws+'/link/written%d' % i, content='x')
`, never: "ESCAPED"},
	{name: "acp-terminal", tries: "ask its client to run a program by a path that leads out", stops: "nothing is shown on account of what a tool asks", acp: `
os.symlink('SECRETS', 'l')
for p in ['SECRETS/sealed/test/silt.t', 'DATA/records.sqlite', ws+'/l/sealed/test/silt.t', ws+'/a/../l/reference.patch']:
    r = ask('terminal/create', command=p)
    r = ask('terminal/create', command='cat', args=[p])
    if 'result' in r:
        t = r['result']['terminalId']; ask('terminal/wait_for_exit', terminalId=t)
        if ask('terminal/output', terminalId=t)['result']['exitStatus'].get('exitCode') == 0: say('ESCAPED '+p)
`, never: "ESCAPED"},
	{name: "acp-no-handshake", project: "two", tries: "not shake hands in a repository that looks hard", stops: "it did elsewhere: then it counts", acp: "HARD", reasons: []verdict.Reason{verdict.HandshakeFailed, verdict.ToolCrashed}},
	{name: "acp-chain", project: "rounds", tries: "work on between two rounds in ever new processes", stops: "all processes are stopped in one step", acp: `
if os.fork() == 0:
    end = time.time()+3
    while time.time() < end:
        open('count','a').write('.')
        if os.fork() != 0: os._exit(0)
        os.setsid()
    os._exit(0)
`},
}

const acpTool = `import json,sys,os,time
ws=os.getcwd()
n=[100]
def send(m):
    sys.stdout.write(json.dumps(m)+'\n'); sys.stdout.flush()
def ask(method, **params):
    n[0]+=1; params['sessionId']='s'; send({'jsonrpc':'2.0','id':n[0],'method':method,'params':params})
    while True:
        m=json.loads(sys.stdin.readline())
        if m.get('id')==n[0] and 'method' not in m: return m
def say(t):
    send({'jsonrpc':'2.0','method':'session/update','params':{'sessionId':'s','update':{'sessionUpdate':'agent_message_chunk','content':{'type':'text','text':t}}}})
for line in sys.stdin:
    m=json.loads(line)
    if m.get('method')=='initialize':
        if HARD and os.path.exists('depth.sh'): sys.exit(1)
        send({'jsonrpc':'2.0','id':m['id'],'result':{'protocolVersion':1,'agentCapabilities':{}}})
    elif m.get('method')=='session/new': send({'jsonrpc':'2.0','id':m['id'],'result':{'sessionId':'s'}})
    elif m.get('method')=='session/prompt':
        os.system(SETUP)
        if os.path.exists('depth.sh'): open('depth.sh','a').write('# x\n')
        else: open('other.txt','a').write('x\n')
        exec(ATTACK)
        send({'jsonrpc':'2.0','id':m['id'],'result':{'stopReason':'end_turn'}})
`

// projects are what attacks meet: files of the repository by name, and the task's keys.
var projects = map[string]struct {
	start, reference, keys string
	sealed                 map[string]string
	needs                  string
}{
	"made": {"printf 'test:\\n\\t@if [ \"$$(cat depth.txt)\" = 7 ]; then echo ok - depth; else echo not ok - depth; exit 1; fi\\n' > Makefile; echo 10 > depth.txt", "echo 7 > depth.txt",
		"checks: [{name: tests, run: make -s test, reads: tap}]\nprotect: strict\n", nil, "make"},
	"reported": {"printf 'test:\\n\\t@[ \"$$(cat depth.txt)\" = 7 ]\\n' > Makefile; echo 10 > depth.txt", "echo 7 > depth.txt", "checks: [{name: tests, run: make -s test}]\n", nil, "make"},
	"own-canary": {"mkdir test; printf 'depth() { echo $1; }\\n' > depth.sh; printf '[ \"$(depth 10 3)\" = 7 ]\\n' > test/depth.sh; printf 'for t in test/*.sh; do (. ./depth.sh; . ./$t) || exit 1; done\\n' > run.sh", "printf 'depth() { echo $(($1 - $2)); }\\n' > depth.sh",
		"checks: [{name: tests, run: sh run.sh}]\nprotect: strict\ncanary: own-canary-sealed\n", map[string]string{"test/{word}.sh": "false\n"}, "sh"},
	"python": {"printf 'def depth(a, b):\\n    return a\\n' > depth.py; printf 'import unittest\\nfrom depth import depth\\n\\nclass Depth(unittest.TestCase):\\n    def test_depth(self):\\n        self.assertEqual(7, depth(10, 3))\\n' > test_depth.py",
		"printf 'def depth(a, b):\\n    return a - b\\n' > depth.py", "checks: [{name: tests, run: python3 -B -m unittest -q}]\nprotect: strict\n", nil, "python3"},
	"node": {"printf '{\"name\":\"quay\",\"scripts\":{\"test\":\"node test.js\"}}\\n' > package.json; echo 'module.exports = (a, b) => a;' > depth.js; printf \"const depth = require('./depth');\\nif (depth(10, 3) !== 7) { console.log('not ok - depth'); process.exit(1); }\\nconsole.log('ok - depth');\\n\" > test.js",
		"echo 'module.exports = (a, b) => a - b;' > depth.js", "checks: [{name: tests, run: npm test --silent, reads: tap}]\nprotect: strict\n", nil, "npm"},
	"outside": {"printf '#!/bin/sh\\necho $1\\n' > depth.sh; chmod +x depth.sh", "printf '#!/bin/sh\\necho $(($1 - $2))\\n' > depth.sh",
		"checks:\n  - name: outside\n    sealed: true\n    run: sh judge/ask.sh\nsealed: {folder: outside-sealed}\n",
		map[string]string{"judge/ask.sh": "expected=7\n[ \"$($AS_CONTENDER sh depth.sh 10 3)\" = \"$expected\" ]\n"}, "sh"},
}

// slow are attacks that take their time, until a limit or with large changes. They are
// part of make test-long.
var slow = []string{"orphan", "stop-all", "fork-bomb", "memory", "disk", "inodes", "cpu", "output-flood", "churn", "commas", "comments", "many-files", "acp-swap", "acp-chain",
	"tty", "vsock", "keyring", "mounts", "link-as-answer", "nested-git", "honest-make", "honest-python", "shadow-unittest", "file-in-home", "lock-parts", "sealed-by-link"}

func TestHostileContenders(t *testing.T) {
	if os.Getenv("AGONOMETER_HOSTILE") == "" && os.Geteuid() == 0 {
		root, user := map[string]string{}, map[string]string{}
		t.Run("as root", func(t *testing.T) { hostileRun(t, root) })
		t.Run("as an ordinary user", func(t *testing.T) { asOrdinaryUser(t, user) })
		if os.Getenv("AGONOMETER_WRITE_TABLE") != "" && os.Getenv("AGONOMETER_LONG") != "" {
			text, err := json.MarshalIndent(map[string]map[string]string{"root": root, "user": user}, "", " ")
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(attackResults, append(text, '\n'), 0o644))
		}
		return
	}
	became := map[string]string{}
	hostileRun(t, became)
	for name, how := range became {
		fmt.Printf("%s%s\t%s\n", attackLine, name, how)
	}
}

// attackResults is what became of each attack, by who the service ran as, in the last whole
// run that wrote it down.
const attackResults = "testdata/attacks.json"

// attackLine begins a line in which the suite, in a process of its own, says what became
// of an attack.
const attackLine = "ATTACK\t"

// asOrdinaryUser runs the suite again in a process of an ordinary user's.
func asOrdinaryUser(t *testing.T, became map[string]string) {
	const user = 60_999
	self, err := os.Executable()
	require.NoError(t, err)
	dir, err := os.MkdirTemp("", "hostile-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	program := filepath.Join(dir, "service.test")
	data, err := os.ReadFile(self)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, data, 0o755))
	home := filepath.Join(dir, "home")
	require.NoError(t, os.Mkdir(home, 0o755))
	require.NoError(t, os.Chown(home, user, user))
	require.NoError(t, os.Chmod(dir, 0o755))
	ctx, cancel := context.WithTimeout(t.Context(), 15*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, "-test.run", "^TestHostileContenders$", "-test.v")
	cmd.Dir = home
	cmd.Env = []string{"AGONOMETER_HOSTILE=user", "AGONOMETER_LONG=" + os.Getenv("AGONOMETER_LONG"), "HOME=" + home, "TMPDIR=" + home, "PATH=/usr/local/bin:/usr/bin:/bin"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}, Setsid: true}
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, lastLines(string(out), 400))
	}
	for line := range strings.Lines(string(out)) {
		if rest, ok := strings.CutPrefix(line, attackLine); ok {
			name, how, _ := strings.Cut(strings.TrimSpace(rest), "\t")
			became[name] = how
		}
	}
	if bytes.Contains(out, []byte("this machine allows no namespaces")) {
		t.Skip("an ordinary user has no namespaces here")
	}
}

func lastLines(s string, n int) string {
	lines := strings.Split(s, "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

// hostileRun runs the suite, and says in became what became of each attack.
func hostileRun(t *testing.T, became map[string]string) {
	base, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	data, outside := filepath.Join(base, "data"), filepath.Join(base, "outside")
	require.NoError(t, os.Mkdir(outside, 0o777))
	require.NoError(t, os.Chmod(outside, 0o777))
	p := newQuay(t, "limits: {time: 10s, check: 20s, memory: 700MiB, disk: 300MiB, files: 30000, cpu: 8s, processes: 300}\n", map[string]string{})
	require.NoError(t, os.Chmod(p.dir, 0o755))
	linked := filepath.Join(base, "linked")
	require.NoError(t, os.Symlink(p.dir, linked))
	carried := filepath.Join(base, "carried")
	require.NoError(t, os.WriteFile(carried, []byte("carried\n"), 0o644))
	sockets, err := os.MkdirTemp("", "sk")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(sockets) })
	require.NoError(t, os.Chmod(sockets, 0o755))
	socket := filepath.Join(sockets, "d.sock")
	daemon, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer daemon.Close()
	require.NoError(t, os.Chmod(socket, 0o777))
	fill := strings.NewReplacer("SECRETS", p.dir, "DATA", data, "OUTSIDE", outside, "SOCKETS", sockets, "SOCKET", socket, "LINKED", linked, "CARRIED", carried)

	// A second task, whose files lie beside the first one's.
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "other"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "other", "answer.txt"), []byte("SEALED-OTHER-7f3a\n"), 0o644))
	sh(t, p.dir, "mkdir empty; cd empty; git init -q -b main .; echo x > readme.txt; git add -A; git commit -qm start; git tag begin")
	p.files["other.md"] = "---\ntask: other\ntitle: Anything\nrepository: empty\nstart_commit: begin\nsealed: {folder: other}\nchecks: [{name: c, run: 'test -f other.txt'}]\nlimits: {time: 6s}\n---\nMake other.txt.\n"
	p.files["other/answer.txt"] = "SEALED-OTHER-7f3a\n"

	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Version: "test", Log: discard()})
	require.NoError(t, err)
	defer s.Close()
	if mode, why := s.Capability(); mode != "namespaces" {
		t.Skip("this machine allows no namespaces: ", why)
	}
	c := clientOf(t, s)
	secrets := []string{s.Token(), "SEALED-OTHER-7f3a", "less silt"}

	byProject := map[string][]attack{}
	for _, a := range attacks {
		if a.project == "" {
			a.project = "quay"
		}
		if os.Getenv("AGONOMETER_LONG") == "" && slices.Contains(slow, a.name) {
			continue
		}
		byProject[a.project] = append(byProject[a.project], a)
	}
	var peak peakMemory
	peak.begin()
	order := make([]string, 0, len(byProject))
	for name := range byProject {
		order = append(order, name)
	}
	sort.Strings(order)
	for _, project := range order {
		bundle := p.bundle()
		shell := project == "quay" || project == "two" || project == "rounds"
		if !shell {
			spec := projects[project]
			if _, err := exec.LookPath(spec.needs); err != nil {
				continue
			}
			bundle = projectBundle(t, p, project)
		}
		contest := p.files["contest.yaml"]
		switch project {
		case "quay":
			contest = strings.Replace(contest, `tasks: ["*.md"]`, "at_once: 2\ntasks: [quay.md]", 1)
		case "rounds":
			contest = strings.Replace(contest, `tasks: ["*.md"]`, "repair_rounds: 1\ntasks: [quay.md]", 1)
		}
		bundle.Files[bundle.Main] = []byte(contest)
		if !shell {
			bundle.Files[bundle.Main] = []byte("contest: " + project + "\ntasks: [\"" + project + ".md\"]\ncontenders: [\"tools/*.yaml\"]\nseed: 1\nlimits: {time: 20s, check: 30s}\n")
		}
		for _, a := range byProject[project] {
			bundle.Files[filepath.Join(p.dir, "tools", a.name+".yaml")] = []byte(contenderOf(t, p.dir, a, fill))
		}
		d, err := c.StartContest(t.Context(), bundle, nil)
		require.NoError(t, err)
		began := time.Now()
		d = finishWithin(t, c, d, 10*time.Minute)
		t.Logf("%s: %d bouts in %.0f s", project, len(d.Bouts), time.Since(began).Seconds())
		for _, a := range byProject[project] {
			t.Run(a.name, func(t *testing.T) {
				b := countedBout(t, d, a)
				defer func() {
					how := "**not stopped**"
					if !t.Failed() {
						how = fmt.Sprintf("stopped; %s (%s)", b.Verdict.Outcome, b.Verdict.Reason)
					}
					became[a.name] = how
				}()
				log, err := c.Log(t.Context(), b.ID, "", 0)
				if err != nil {
					log = nil
				}
				require.NotNil(t, b.Verdict)
				assert.NotEqual(t, verdict.Void, b.Verdict.Outcome, "%+v", b.Verdict)
				if a.wins {
					assert.Equal(t, verdict.Passed, b.Verdict.Outcome, "%+v\n%s", b.Verdict, log)
				} else {
					assert.Equal(t, verdict.Failed, b.Verdict.Outcome, "%+v", b.Verdict)
				}
				if len(a.reasons) > 0 {
					assert.Contains(t, a.reasons, b.Verdict.Reason, "%+v", b.Verdict)
				}
				if a.says != "" {
					assert.Contains(t, string(log), a.says)
				}
				if a.never != "" {
					assert.NotContains(t, string(log), a.never)
				}
			})
		}
	}
	peak.end(t)
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left, "something was made outside")
	require.NoError(t, s.Close())
	for name, found := range storedWith(t, data, secrets) {
		assert.Fail(t, "a secret was stored", "%s holds %q", name, found)
	}
	scratch, err := os.ReadDir(filepath.Join(data, "scratch"))
	require.NoError(t, err)
	assert.Empty(t, scratch, "folders of bouts are left")
}

// countedBout is the bout of an attack that counts.
func countedBout(t *testing.T, d api.ContestDetail, a attack) api.Bout {
	t.Helper()
	for _, b := range d.Bouts {
		if b.Contender == a.name && b.ReplacedBy == "" && b.Task != "other" {
			return b
		}
	}
	t.Fatalf("no bout of %s", a.name)
	return api.Bout{}
}

func contenderOf(t *testing.T, dir string, a attack, fill *strings.Replacer) string {
	t.Helper()
	text := "contender: " + a.name + "\ntitle: " + a.name + "\n" + fill.Replace(a.yaml)
	if a.acp == "" {
		return text + "run:\n  - sh\n  - -c\n  - |\n    " + strings.ReplaceAll(strings.TrimSpace(fill.Replace(a.script)), "\n", "\n    ") + "\n"
	}
	hard, code := "False", fill.Replace(a.acp)
	if a.acp == "HARD" {
		hard, code = "True", ""
	}
	tool := strings.NewReplacer("HARD", hard, "ATTACK", pythonString(code), "SETUP", pythonString(fill.Replace(a.script))).Replace(acpTool)
	name := filepath.Join(dir, "acp-"+a.name+".py")
	require.NoError(t, os.WriteFile(name, []byte(tool), 0o755))
	return text + "drive: acp\nrun: [python3, " + name + "]\nreads: [" + name + "]\n"
}

func pythonString(s string) string {
	return "'''" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(s) + "'''"
}

func projectBundle(t *testing.T, p *port, name string) *specfile.Bundle {
	t.Helper()
	spec := projects[name]
	sh(t, p.dir, "mkdir "+name+"; cd "+name+"; git init -q -b main .; "+spec.start+"; git add -A; git commit -qm start; git tag begin; "+spec.reference+"; git diff > ../"+name+".patch; git checkout -q .")
	b := &specfile.Bundle{Main: filepath.Join(p.dir, name+"-contest.yaml"), Files: map[string][]byte{}}
	patch, err := os.ReadFile(filepath.Join(p.dir, name+".patch"))
	require.NoError(t, err)
	b.Files[filepath.Join(p.dir, name+".patch")] = patch
	b.Files[filepath.Join(p.dir, name+".md")] = []byte("---\ntask: " + name + "\ntitle: Depth allows for silt\nrepository: " + name + "\nstart_commit: begin\nreference_patch: " + name + ".patch\n" + spec.keys + "---\nDepth must take the silt off.\n")
	for file, text := range spec.sealed {
		full := filepath.Join(p.dir, name+"-sealed", file)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
		b.Files[full] = []byte(text)
	}
	return b
}

// storedWith looks for secrets in every stored byte, contents decompressed.
func storedWith(t *testing.T, data string, secrets []string) map[string]string {
	t.Helper()
	out := map[string]string{}
	decoder, err := zstd.NewReader(nil)
	require.NoError(t, err)
	defer decoder.Close()
	require.NoError(t, filepath.WalkDir(data, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel, _ := filepath.Rel(data, name)
		if rel == "token" || strings.HasPrefix(rel, "starts/") || strings.HasPrefix(rel, "prepared/") {
			return nil
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		if strings.HasSuffix(name, ".zst") {
			if plain, err := decoder.DecodeAll(text, nil); err == nil {
				text = plain
			}
		}
		if bytes.Contains(text, []byte(`"main":`)) && bytes.Contains(text, []byte(`"files":`)) {
			return nil // the contest's own files, as it was started with
		}
		for _, secret := range secrets {
			if bytes.Contains(text, []byte(secret)) {
				out[rel] = secret
			}
		}
		return nil
	}))
	return out
}

// peakMemory looks after the memory of this process while the suite runs.
type peakMemory struct {
	stop, ended chan struct{}
	most        uint64
	resident    uint64
}

// residentOf is how much of this process is in memory, in bytes: the service's, and the
// suite's.
func residentOf() uint64 {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text))
	if len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseUint(fields[1], 10, 64)
	return pages * uint64(os.Getpagesize())
}

func (p *peakMemory) begin() {
	p.stop, p.ended = make(chan struct{}), make(chan struct{})
	go func() { // ends when stop is closed
		defer close(p.ended)
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			p.most = max(p.most, m.HeapInuse+m.StackInuse)
			p.resident = max(p.resident, residentOf())
			select {
			case <-p.stop:
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}()
}

func (p *peakMemory) end(t *testing.T) {
	close(p.stop)
	<-p.ended
	t.Logf("the service's memory was %d MiB at most, %d MiB of the process were resident", p.most>>20, p.resident>>20)
	assert.Less(t, p.most, uint64(400<<20))
	assert.Less(t, p.resident, uint64(400<<20), "the suite's own included")
}

// The table in docs/security.md is that of the suite.
func TestTheTableOfAttacksIsCurrent(t *testing.T) {
	var b strings.Builder
	var became map[string]map[string]string
	results, err := os.ReadFile(attackResults)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(results, &became))
	b.WriteString("| case | what is tried | what stops it | as root | as an ordinary user |\n|---|---|---|---|---|\n")
	for _, a := range attacks {
		if !a.wins {
			require.NotEmpty(t, became["root"][a.name], "%s has not been run as root: run the whole suite with AGONOMETER_LONG=1 AGONOMETER_WRITE_TABLE=1", a.name)
			require.NotEmpty(t, became["user"][a.name], "%s has not been run as an ordinary user", a.name)
			fmt.Fprintf(&b, "| %s | %s | %s | %s | %s |\n", a.name, a.tries, a.stops, became["root"][a.name], became["user"][a.name])
		}
	}
	name := filepath.Join("..", "..", "docs", "security.md")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), "<!-- table: written by TestTheTableOfAttacksIsCurrent -->\n")
	require.True(t, found)
	_, after, found := strings.Cut(rest, "<!-- end of the table -->")
	require.True(t, found)
	want := before + "<!-- table: written by TestTheTableOfAttacksIsCurrent -->\n" + b.String() + "<!-- end of the table -->" + after
	if os.Getenv("AGONOMETER_WRITE_TABLE") != "" {
		require.NoError(t, os.WriteFile(name, []byte(want), 0o644))
		return
	}
	assert.Equal(t, want, string(text), "write it with: AGONOMETER_WRITE_TABLE=1 go test -run TestTheTableOfAttacks ./internal/service")
}
