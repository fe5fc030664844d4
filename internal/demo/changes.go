package demo

import (
	"fmt"
	"strings"
)

// What was planted, so that each kind of finding shows, with a reason that a person
// would recognise.

func by(who, at string, v values) values {
	v["updated_by"], v["updated_at"] = who, at
	return v
}

// changeSandbox is the work of the build team since both databases were the same.
func changeSandbox(w world) {
	const team = "build"
	// Addresses and tokens of the test machines: they must stay here.
	for i, r := range w["instruments"] {
		r.values["endpoint_url"] = fmt.Sprintf("http://sim-%d.sandbox.example:6000", i+1)
		r.values["endpoint_token"] = fmt.Sprintf("sandbox-token-%d", i+1)
	}
	for _, r := range w["instrument_links"] {
		r.values["channel"] = r.values["channel"].(int) + 100
	}
	// A new family of assays, in a new department below one that is there, with two
	// assays that stand in for each other: a circle.
	w.add("departments", "SPEC/ENDO", by(team, "2026-10-05 09:12:00", values{"code": "ENDO", "name": "Endocrine antibodies",
		"parent_id": to{"departments", "SPEC"}}))
	w.add("units", "IU/mL", by(team, "2026-10-05 09:14:00", values{"code": "IU/mL", "name": "international unit per millilitre"}))
	family := [][2]string{{"TPOAB", "Thyroid peroxidase antibodies"}, {"TGAB", "Thyroglobulin antibodies"},
		{"TRAB", "Thyrotropin receptor antibodies"}}
	for i, a := range family {
		w.assay(a[0], a[1], "SPEC/ENDO", "IU/mL", "SER", "GEL", 1, 48)
		w.ranges(a[0], "0", []string{"34", "115", "1.75"}[i])
		w.price("STD", a[0], "2027-01-01", 2450+300*i)
		w.price("HOSP", a[0], "2027-01-01", 1960+240*i)
	}
	w.set("assays", "TPOAB", values{"fallback_assay_id": to{"assays", "TGAB"},
		"method_sheet": []byte("%Method sheet, thyroid peroxidase antibodies\nCalibrate every 28 days.\n" +
			strings.Repeat("Control level 1 and 2 before each series.\n", 40))})
	w.set("assays", "TGAB", values{"fallback_assay_id": to{"assays", "TPOAB"}})
	w.panel("THYAB", "Thyroid antibodies", []string{"TPOAB", "TGAB", "TRAB"})
	// An assay still under validation, and a rule that already refers to it.
	w.assay("FCAL", "Faecal calprotectin", "SPEC/URI", "mg/L", "SWAB", "CUP", 0, 72)
	w.ranges("FCAL", "0", "50")
	w.rule("CRP-FCAL", "CRP", "FCAL", `{"above": 10}`)
	// Prices for the new year.
	for i, a := range list("assays") {
		if i%9 == 4 {
			cents := 450 + (i*137)%2900
			w.set("price_lines", "STD/"+a["code"]+"/2026-01-01", by(team, "2026-11-02 15:40:00", values{"price": float64(cents+60) / 100}))
		}
	}
	// A unit whose name was spelt in two ways at once.
	w.set("units", "ug/L", by(team, "2026-10-12 10:02:00", values{"name": "microgram per litre"}))
	// A comment with a better code: the same text, so probably the same record.
	w.set("comment_codes", "HAEM", by(team, "2026-10-12 10:20:00", values{"code": "HEMOLYSIS"}))
	// A code that was entered a second time in another case.
	w.add("comment_codes", "Lipem", by("trainee", "2026-10-20 16:55:00", values{"code": "Lipem", "text": "Lipaemic specimen."}))
	w.set("comment_codes", "EGFR", by(team, "2026-10-21 11:00:00",
		values{"text": "Estimated by formula; not valid in acute kidney injury, pregnancy or below 18 years."}))
	// The range that production changed as well.
	w.set("assay_ranges", "K/U/0", by(team, "2026-10-28 13:30:00", values{"high": 5.9}))
	w.set("assay_ranges", "TSH/U/0.5", by(team, "2026-10-28 13:45:00", values{"low": 0.6, "high": 4.8}))
	// An assay that is faster now, and that production does not offer any more.
	w.set("assays", "AMM", by(team, "2026-10-29 10:10:00", values{"turnaround_hours": 2}))
	w.price("STD", "AMM", "2027-01-01", 1890)
	// The sandbox runs the next patch of the application already.
	w.set("settings", "app_version", by(team, "2026-11-04 18:00:00", values{"value": "8.4.2"}))
	// A panel whose name is longer than production takes.
	w.panel("CARDED", "Cardiac markers for the emergency department", []string{"TROP", "BNP", "CK"})
	// A tube that production has under another code; no two tubes may have one name.
	w.add("containers", "GELXL", by(team, "2026-10-06 14:00:00", values{"code": "GELXL", "name": "Gel tube, 8 ml", "volume_ml": 8.0}))
	// A comment that both sides wrote, each on its own.
	w.add("comment_codes", "HOOK", by(team, "2026-09-24 09:30:00", values{"code": "HOOK",
		"text": "Repeated after dilution because of a hook effect."}))
	// Somebody tried something out.
	w.assay("ZZTEST", "do not use", "CORE/CHEM", "ratio", "SER", "PLN", 0, 1)
	w.ranges("ZZTEST", "0", "1")
	w.right("TECH", "setup.read", "full")
	w.holidays("2027")
	w.set("settings", "report_footer", by(team, "2026-11-03 09:00:00", values{"value": "Fernhollow Diagnostics, accredited laboratory"}))
}

// changeProduction is what happened in production meanwhile.
func changeProduction(w world) {
	const night = "night shift"
	for i, r := range w["instruments"] {
		r.values["endpoint_url"] = fmt.Sprintf("https://gateway.fernhollow.example/line/%d", i+1)
		r.values["endpoint_token"] = fmt.Sprintf("production-token-%d", 7*(i+1))
	}
	// The night shift widened a range that the build team changed too.
	w.set("assay_ranges", "K/U/0", by(night, "2026-10-30 02:14:00", values{"high": 6.2}))
	// A panel that was edited only here.
	w.set("panels", "RENAL", by("ward team", "2026-09-18 11:05:00", values{"name": "Renal panel with electrolytes"}))
	w.item("RENAL", "CO2", 80)
	w.add("containers", "GEL8", by("stores", "2026-08-17 07:50:00", values{"code": "GEL8", "name": "Gel tube, 8 ml", "volume_ml": 8.0}))
	w.add("comment_codes", "HOOK", by(night, "2026-10-15 03:20:00", values{"code": "HOOK",
		"text": "High-dose hook effect suspected; measured again after dilution."}))
	// An assay that was taken out of use here, and one that was removed on purpose.
	w.set("assays", "AMM", by("lab lead", "2026-09-01 08:00:00", values{"status": "R"}))
	w.remove("assays", "SALI")
	// A panel that everybody forgot, and a price list of another hospital.
	w.panel("OLDLIP", "Lipids, old request form", []string{"CHOL", "TRIG"})
	w.add("price_lists", "OTTER", by("finance", "2026-07-01 10:00:00",
		values{"code": "OTTER", "name": "Otterbrook Hospital", "currency": "EUR"}))
	for i, assay := range []string{"GLU", "NA", "K", "CREA"} {
		w.price("OTTER", assay, "2026-07-01", 300+10*i)
	}
}
