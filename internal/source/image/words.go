package image

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/scan"
	"humble-rewind/internal/core/place"
)

// said tells of a file system.
func said(v scan.Volume) string {
	label := ""
	if v.Label != "" {
		label = " called " + place.Quote(v.Label)
	}
	return fmt.Sprintf("%s: %s%s, %s.", v.Name, v.System, label, humanize.IBytes(uint64(v.Size)))
}

// words say what was wrong with a drive.
func words(n disk.Note) string {
	folder := place.Quote(n.Folder)
	switch n.What {
	case disk.BackupTable:
		return "The first partition table cannot be read; its backup at the end of the drive was taken."
	case disk.PartitionEnds:
		return fmt.Sprintf("Partition %d ends before it begins; it is left out.", n.Number)
	case disk.PartitionOutside:
		return fmt.Sprintf("Partition %d lies outside of the drive; it is left out.", n.Number)
	case disk.PartitionCut:
		return fmt.Sprintf("Partition %d goes on past the end of the drive: the image is cut off, or the table is wrong.", n.Number)
	case disk.PartitionsOver:
		return fmt.Sprintf("Partitions %d and %d lie over one another; both are read.", n.Number, n.Other)
	case disk.LogicalBroken:
		return "The chain of logical partitions breaks off."
	case disk.LogicalLoop:
		return "The chain of logical partitions leads back to itself; it is followed once."
	case disk.LogicalMany:
		return fmt.Sprintf("There are more than %d logical partitions; the rest is left out.", n.Number)
	case disk.FoldersMany:
		return fmt.Sprintf("There are more than %d folders; the rest is left out.", n.Number)
	case disk.PiecesMany:
		return fmt.Sprintf("What was erased lies in more than %d pieces, so that it cannot be told what was written over what: nothing is promised of any.", n.Number)
	case disk.EntriesMany:
		return fmt.Sprintf("There are more than %d entries; the rest is left out.", n.Number)
	case disk.FolderBroken:
		return fmt.Sprintf("Where the folder %s goes on is not told; what of it can be found was read.", folder)
	case disk.FolderUnread:
		return fmt.Sprintf("Some of the folder %s cannot be read.", folder)
	case disk.RootUnread:
		return "The top folder cannot be read."
	case disk.NotUnmounted:
		return "Its journal was not carried out, since it was not unmounted: what changed last may stand otherwise."
	case disk.VolumeUnread:
		return fmt.Sprintf("%s is recognised, but not read by its entries.", n.Folder)
	case disk.VolumeOlder:
		return fmt.Sprintf("It was made over an older file system, %s, which is read too.", n.Folder)
	case disk.NothingHere:
		return "No file system is recognised on it."
	}
	return "Something on it cannot be read."
}
