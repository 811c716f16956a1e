package confine

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
)

// As root, concurrent bouts belong to different users, over one prepared HOME.
func TestALayerOverWhatBelongsToAnother(t *testing.T) {
	needNamespaces(t)
	if os.Geteuid() != 0 {
		t.Skip("only root can give bouts ids of their own")
	}
	assert.True(t, DetectOverlay(t.TempDir(), Namespaces, 0))
	assert.True(t, DetectOverlay(t.TempDir(), Namespaces, 3))
}

// What a check starts as the other user can neither read what is the check's alone, nor
// trace or signal it, and ends as it ends.
func TestAProgramAsTheOtherUser(t *testing.T) {
	needNamespaces(t)
	if os.Geteuid() != 0 {
		t.Skip("only root has a second user to give")
	}
	script := `
		export CHECK=$$; umask 077; echo SEALED-ANSWER > answer; echo shared > shared; chmod 644 shared
		/bout/as-contender sh -c '
			echo "other $(id -u)"; cat shared; cat answer 2>/dev/null
			for p in $CHECK 1; do
				cat /proc/$p/mem > /dev/null 2>&1 && echo READ-MEM; ls /proc/$p/fd >/dev/null 2>&1 && echo SAW-FDS; cat /proc/$p/environ >/dev/null 2>&1 && echo READ-ENV
				kill -9 $p 2>/dev/null && echo KILLED
			done
			echo x > written 2>/dev/null && echo WROTE; echo y > /tmp/own && echo tmp-works
			/bout/as-contender id -u 2>/dev/null && echo BACK
			read line; echo "read $line"; exit 7' <<< "from the check" 2>&1
		echo "code $?"
		/bout/as-contender sh -c 'kill -TERM $$'; echo "signal $?"
		/bout/as-contender /no/such/program; echo "missing $?"
		(/bout/as-contender sleep 1000 & echo $! > /tmp/helper; wait) & sleep 0.3; kill -9 $(cat /tmp/helper); sleep 0.3; ps -e -o args 2>/dev/null | grep -c "^sleep 1000"
		true`
	spec := world(t, Namespaces, "")
	spec.Args = []string{"bash", "-c", script}
	other := spec.Owner.Numbered(MaxOwners)
	spec.Other = &other
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	spec.Binds = append(spec.Binds, Bind{Source: self, Target: OtherPath})
	if err := os.Chmod(spec.Binds[2].Source, 0o777); err != nil {
		t.Fatal(err)
	}
	_, out := run(t, spec, 0)
	for _, want := range []string{"other 1001", "shared", "tmp-works", "read from the check", "code 7", "signal 143", "missing 126"} {
		assert.Contains(t, out, want)
	}
	for _, bad := range []string{"SEALED-ANSWER", "READ-", "SAW-", "KILLED", "WROTE", "BACK"} {
		assert.NotContains(t, out, bad)
	}
	t.Log(out)
}
