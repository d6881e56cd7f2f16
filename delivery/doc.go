// Package delivery says how letters are delivered: by which workers ([Settings]), in which lanes, to whom at all
// ([Guard]), what follows when they come back ([Bounces], [Recheck]), and who is told ([Observer]).
package delivery
