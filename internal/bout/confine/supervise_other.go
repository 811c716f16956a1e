//go:build !linux

package confine

import "syscall"

const exitLifeline = 75

// Agonometer runs bouts on Linux. Elsewhere its client works, and a service
// says at its start that it cannot run anything.
func supervisorAttr(Spec) *syscall.SysProcAttr { return nil }

// MaybeSupervise does nothing on this system.
func MaybeSupervise() {}
