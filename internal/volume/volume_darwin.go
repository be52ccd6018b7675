package volume

import "os"

func syncAll(*os.File) (bool, error) { return false, nil }
