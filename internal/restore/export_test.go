package restore

import "encoding/json"

// FormerWork is the work of an item as earlier versions kept it.
func FormerWork(encoded []byte) ([]byte, error) {
	w, err := decodeWork(encoded)
	if err != nil {
		return nil, err
	}
	return json.Marshal(w)
}
