// Package corpus holds losses whose right answers are known beforehand, because they follow from how the histories were
// made, and measures how many of them the advice gets right, beside two naive choosers: the newest copy, and the newest
// copy before the file was last right.
//
// Each history is played out on real files: machines in a folder with homes, trashes and snapshots, whose clocks are set
// by hand, read by the program's own sources into a real catalogue.
//
// It is all test: go test plays every loss and wants each answered right; make corpus prints the shares, family by family.
package corpus
