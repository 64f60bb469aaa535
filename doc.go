// Package humblerewind holds no code: the program is in cmd/humble-rewind and below internal. The tests here hold what
// is true of the module as a whole: which package may import which, and that generated code has not drifted.
package humblerewind
