package main

import (
	"context"
	"fmt"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

// printed are the fields of a file that find prints and a survey records.
const printed = `-printf '%p %y %s %T@ %C@ %i %U %G %m\n'`

// shell runs a command line with its output thrown away, and returns what it cost.
func shell(ctx context.Context, format string, args ...any) (cost, error) {
	line := fmt.Sprintf(format, args...)
	command := exec.CommandContext(ctx, "sh", "-c", line)
	begun := time.Now()
	out, err := command.CombinedOutput()
	if err != nil {
		return cost{}, fmt.Errorf("%s: %w: %.300s", line, err, out)
	}
	return cost{time.Since(begun), command.ProcessState.UserTime() + command.ProcessState.SystemTime()}, nil
}

// output runs a command line for what it prints.
func output(ctx context.Context, format string, args ...any) (string, error) {
	line := fmt.Sprintf(format, args...)
	out, err := exec.CommandContext(ctx, "sh", "-c", line).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%s: %w: %.300s", line, err, out)
	}
	return strings.TrimSpace(string(out)), err
}

// number runs a command line that prints a number.
func number(ctx context.Context, format string, args ...any) (int, error) {
	out, err := output(ctx, format, args...)
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(out)
}
