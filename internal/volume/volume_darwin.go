package volume

import "os"

func syncAll(*os.File) (bool, error) { return false, nil }

func startSync(*os.File, int64, int64) {}
