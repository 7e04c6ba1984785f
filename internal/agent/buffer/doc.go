// Package buffer keeps encoded records on disk while a destination does not take them.
//
// A Lane is what one source has for one destination: a queue of frames in segment files, the oldest first. Frames are
// appended in memory, written and synced in groups, read back in order, and given up once their records are settled. A
// segment is deleted when all of it is settled and the caller has written that down.
//
// A segment begins with a header: eight bytes "synaxis1", the length and the CRC-32C of what follows, and JSON that
// names the agent. A frame is, with integers in little-endian order:
//
//	 0  4  0x0b2ef15a, by which a reader finds the next frame behind damage
//	 4  4  length of what follows the checksum
//	 8  4  CRC-32C (Castagnoli) of it
//	12  8  number of its first record in the lane; records are numbered from 0
//	20  4  how many records it has; 0 for an origin
//	24  1  0 records, 1 an origin
//	25  1  encoding of the records
//	26  2  number of their origin in the segment
//	28  8  when it was appended, in Unix nanoseconds
//	36  8  the stream that the records were read from
//	44     records: the end of each in four bytes, then their bytes; an origin: JSON
//
// Numbers go up by one a record, so that a gap tells how many records were lost to damage, and what was copied twice
// shows.
package buffer
