package disk

// MostFolders is how many folders of a file system are walked.
const MostFolders = 1_000_000

// Breadth visits a folder and those below it: first what stands, then what was erased, which visit finds in each. A file system can be made to
// lead in circles, so visit passes over what it has seen, and it ends with a note after so many.
func Breadth[F any](begin F, erased func(F) bool, visit func(F) ([]F, error), note func(Note)) error {
	visited := 0
	var later []F
	for queue := []F{begin}; len(queue) > 0 || len(later) > 0; {
		if len(queue) == 0 {
			queue, later = later, nil
		}
		f := queue[0]
		queue = queue[1:]
		if visited++; visited > MostFolders {
			note(Note{What: FoldersMany, Number: MostFolders})
			return nil
		}
		found, err := visit(f)
		if err != nil {
			return err
		}
		for _, sub := range found {
			if erased(sub) {
				later = append(later, sub)
			} else {
				queue = append(queue, sub)
			}
		}
	}
	return nil
}
