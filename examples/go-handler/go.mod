module fares

go 1.21
