package place

// Map says that what a store calls From is To on the machine.
type Map struct{ From, To string }

// Mapped rewrites a path by the first map whose From it lies under.
func Mapped(maps []Map, path string) string {
	for _, m := range maps {
		if rest, ok := Below(path, m.From); ok {
			return Join(m.To, rest)
		}
	}
	return path
}
