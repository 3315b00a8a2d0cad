package image

import "syscall"

func changeTime(stat *syscall.Stat_t) int64 { return stat.Ctimespec.Nano() }
