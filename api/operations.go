package api

import (
	_ "embed" // the contract itself
	"fmt"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"
)

//go:embed openapi.yaml
var contract []byte

// Operation is what the contract says of who may do an operation.
type Operation struct {
	Rights []string // x-right: those that it takes
	Whole  bool     // x-whole: it is about the whole site, and for nobody who may know only a part of it
	Open   bool     // x-right is "signed-in" or "nobody": it takes no right
}

// Operations are those of the contract that name a right, by their ids as Go names them.
var Operations = sync.OnceValue(func() map[string]Operation {
	all, err := readOperations(contract)
	if err != nil {
		panic("api/openapi.yaml: " + err.Error()) // it is built into the program, and a test reads it
	}
	return all
})

// The words of x-right that are no rights.
const (
	signedIn = "signed-in" // whoever is
	nobody   = "nobody"    // also who is not
)

func readOperations(contract []byte) (map[string]Operation, error) {
	var document struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	if err := yaml.Unmarshal(contract, &document); err != nil {
		return nil, err
	}
	all := map[string]Operation{}
	for path, methods := range document.Paths {
		for method, node := range methods {
			var o struct {
				ID    string `yaml:"operationId"`
				Right string `yaml:"x-right"`
				Whole bool   `yaml:"x-whole"`
			}
			if node.Kind != yaml.MappingNode || method == "parameters" {
				continue
			}
			if err := node.Decode(&o); err != nil {
				return nil, fmt.Errorf("%s %s: %w", method, path, err)
			}
			if o.Right == "" {
				return nil, fmt.Errorf("%s %s names no right: give it x-right", method, path)
			}
			operation := Operation{Whole: o.Whole, Open: o.Right == signedIn || o.Right == nobody}
			if !operation.Open {
				operation.Rights = strings.Fields(o.Right)
			}
			all[strings.ToUpper(o.ID[:1])+o.ID[1:]] = operation
		}
	}
	return all, nil
}
