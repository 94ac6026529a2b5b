module quay

go 1.21
