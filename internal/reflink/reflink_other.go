//go:build !linux && !windows && !darwin

package reflink

import "os"

func cloneFile(*os.Root, string, *os.File) (*os.File, error) { return nil, ErrUnsupported }

func cloneRange(_ *os.File, _ int64, _ *os.File, _, _ int64) error { return ErrUnsupported }

func shared(*os.File) (int64, error) { return 0, ErrUnsupported }
