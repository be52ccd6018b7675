//go:build !linux && !windows

package reflink

import "os"

func cloneFile(_, _ *os.File) error { return ErrUnsupported }

func cloneRange(_ *os.File, _ int64, _ *os.File, _, _ int64) error { return ErrUnsupported }

func shared(*os.File) (int64, error) { return 0, ErrUnsupported }
