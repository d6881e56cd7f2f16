// Package delivery holds the settings of delivery: of workers ([Settings]), of what may leave ([Guard]), of letters
// that come back ([Bounces]), and of addresses that are asked again ([Recheck]). An [Observer] is told what happens.
package delivery
