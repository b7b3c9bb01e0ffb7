module kembrel.internal/kembrel

go 1.24.0
