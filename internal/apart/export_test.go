package apart

// Instead has children run another program, until the function is called.
func Instead(program string) (restore func()) {
	was := executable
	executable = func() (string, error) { return program, nil }
	return func() { executable = was }
}
