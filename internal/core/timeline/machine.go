package timeline

// Machine is how busy the machine was while a contender worked.
type Machine struct {
	CPUs int `json:"cpus"`
	// Load is the largest load average over a minute that was seen.
	Load float64 `json:"load"`
	// Waiting is the share of the time in which some task of the machine had to
	// wait for a CPU, from 0 to 1; nil where the kernel does not say.
	Waiting *float64 `json:"waiting"`
}

// The bounds above which a machine counts as overloaded.
const (
	OverloadedWaiting = 0.6
	OverloadedLoad    = 2.0 // for each CPU
)

// Overloaded tells whether times may have suffered: for more than six tenths of
// the time something had to wait for a CPU; where the kernel does not say that,
// the load was above two for each CPU.
func (m *Machine) Overloaded() bool {
	switch {
	case m == nil:
		return false
	case m.Waiting != nil:
		return *m.Waiting > OverloadedWaiting
	}
	return m.CPUs > 0 && m.Load > OverloadedLoad*float64(m.CPUs)
}
