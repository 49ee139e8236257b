// Package real holds tests only: pages that people wrote for other people, not for this program, looked at by their address
// alone as a stranger's site is, and as one's own with its server and files. What deviates there was held against the source of the pages, line by line; the tables of it
// are in testdata. They change with the packages' versions, and then whoever changes them looks again.
package real
