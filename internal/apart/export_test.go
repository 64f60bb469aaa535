package apart

// Instead has children run another program, until the function is called.
func Instead(program string) (restore func()) {
	was := executable
	executable = func() (string, error) { return program, nil }
	return func() { executable = was }
}

// Rest ends the children that have nothing to do, as is done once that has been so for some time.
func (p *Pool) Rest() { p.rest(0) }
