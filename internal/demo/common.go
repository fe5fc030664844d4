package demo

import (
	"embed"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"
)

//go:embed scenario/*.csv
var lists embed.FS

// list reads a shipped CSV file; its first column names the record.
func list(name string) []map[string]string {
	f, err := lists.Open("scenario/" + name + ".csv")
	if err != nil {
		panic(err)
	}
	defer f.Close()
	lines, err := csv.NewReader(f).ReadAll()
	if err != nil {
		panic(err)
	}
	var out []map[string]string
	for _, line := range lines[1:] {
		entry := map[string]string{}
		for i, column := range lines[0] {
			entry[column] = line[i]
		}
		out = append(out, entry)
	}
	return out
}

const (
	builtAt = "2026-03-02 08:00:00"
	builtBy = "setup"
)

func stamped(v values) values {
	v["updated_at"], v["updated_by"] = builtAt, builtBy
	return v
}

func created(v values) values {
	v["created_at"] = builtAt
	return stamped(v)
}

// common is what both databases had in common before anybody changed anything.
func common() world {
	w := world{}
	w.basics()
	w.tests()
	w.instruments()
	w.prices()
	w.rest()
	return w
}

func (w world) basics() {
	departments := [][3]string{
		{"", "CORE", "Core laboratory"}, {"CORE", "CHEM", "Clinical chemistry"}, {"CORE", "HAEM", "Haematology"},
		{"CORE", "COAG", "Coagulation"},
		{"CORE", "IMM", "Immunoassay"}, {"", "SPEC", "Special diagnostics"}, {"SPEC", "AUTO", "Autoimmunity"},
		{"SPEC", "TDM", "Drug levels"},
		{"SPEC", "URI", "Urine and fluids"}, {"SPEC", "SERO", "Infection serology"}, {"", "OUT", "Outpatient collection"},
	}
	for _, d := range departments {
		v := stamped(values{"code": d[1], "name": d[2]})
		name := d[1]
		if d[0] != "" {
			v["parent_id"], name = to{"departments", d[0]}, d[0]+"/"+d[1]
		}
		w.add("departments", name, v)
	}
	for _, u := range list("units") {
		w.add("units", u["code"], stamped(values{"code": u["code"], "name": u["name"]}))
	}
	specimens := []struct {
		code, name string
		hours      any
	}{{"SER", "Serum", 72}, {"PLAS", "Plasma", 48}, {"CPLAS", "Citrated plasma", 4}, {"WB", "Whole blood", 24}, {"URI", "Urine", 24},
		{"CSF", "Cerebrospinal fluid", 1}, {"SWAB", "Swab", nil}}
	for _, s := range specimens {
		w.add("specimen_types", s.code, stamped(values{"code": s.code, "name": s.name, "stable_hours": s.hours}))
	}
	containers := [][3]string{{"GEL", "Gel tube", "5"}, {"PLN", "Plain tube", "4"}, {"EDTA", "EDTA tube", "2.7"},
		{"CIT", "Citrate tube", "2.7"}, {"HEP", "Heparin tube", "4"}, {"FLUO", "Fluoride tube", "2"}, {"CUP", "Urine cup", "100"}}
	for _, c := range containers {
		w.add("containers", c[0], stamped(values{"code": c[0], "name": c[1], "volume_ml": number(c[2])}))
	}
}

func number(text string) any {
	f, err := strconv.ParseFloat(text, 64)
	if err != nil {
		panic(err)
	}
	return f
}

func (w world) tests() {
	for _, a := range list("assays") {
		hours, _ := strconv.Atoi(a["hours"])
		decimals, _ := strconv.Atoi(a["decimals"])
		w.assay(a["code"], a["name"], a["department"], a["unit"], a["specimen"], a["container"], decimals, hours)
		w.ranges(a["code"], a["low"], a["high"])
	}
	for code, fallback := range map[string]string{"LDL": "CHOL", "FT3": "FT4", "BNP": "TROP", "CO2": "CL"} {
		w.set("assays", code, values{"fallback_assay_id": to{"assays", fallback}})
	}
	for _, p := range list("panels") {
		w.panel(p["code"], p["name"], strings.Fields(p["assays"]))
	}
	for _, c := range list("comments") {
		w.add("comment_codes", c["code"], stamped(values{"code": c["code"], "text": c["text"]}))
	}
	rules := []struct{ code, when, then, condition string }{
		{"TSH-FT4", "TSH", "FT4", `{"any": [{"below": 0.4}, {"above": 4.0}]}`},
		{"FT4-FT3", "FT4", "FT3", `{"above": 22}`},
		{"CRP-ESR", "CRP", "ESR", `{"above": 50, "unless": ["paediatric"]}`},
		{"HB-FERR", "HB", "FERR", `{"below": 110}`},
		{"PSA-REP", "PSA", "PSA", `{"above": 4.0, "after_days": 42}`},
		{"TTG-IGA", "TTG", "IGA", `{"below": 1}`},
		{"ANA-DS", "ANA", "DSDNA", `{"at_least": 160}`},
		{"BILT-BILD", "BILT", "BILD", `{"above": 21}`},
		{"UALB-UCRE", "UALB", "UCRE", `{"always": true}`},
	}
	for _, r := range rules {
		w.rule(r.code, r.when, r.then, r.condition)
	}
}

func (w world) assay(code, name, department, unit, specimen, container string, decimals, hours int) {
	w.add("assays", code, created(values{
		"code": code, "name": name, "department_id": to{"departments", department}, "unit_id": to{"units", unit},
		"specimen_type_id": to{"specimen_types", specimen}, "container_id": to{"containers", container},
		"decimals": decimals, "turnaround_hours": hours,
	}))
}

// ranges gives an assay its reference ranges: for either sex as adults, and for children.
func (w world) ranges(assay, low, high string) {
	add := func(sex string, from, until float64, low, high any) {
		w.add("assay_ranges", fmt.Sprintf("%s/%s/%v", assay, sex, from), stamped(values{
			"assay_id": to{"assays", assay}, "sex": sex, "age_from": from, "age_to": until, "low": low, "high": high,
		}))
	}
	add("F", 18, 120, number(low), number(high))
	add("M", 18, 120, number(low), number(high))
	add("U", 0, 0.5, nil, number(high))
	add("U", 0.5, 18, number(low), number(high))
}

func (w world) panel(code, name string, assays []string) {
	w.add("panels", code, stamped(values{"code": code, "name": name, "lead_assay_id": to{"assays", assays[0]}}))
	for i, assay := range assays {
		w.item(code, assay, 10*(i+1))
	}
}

func (w world) item(panel, assay string, sort int) {
	w.add("panel_items", panel+"/"+assay, values{"panel_id": to{"panels", panel}, "assay_id": to{"assays", assay}, "sort_no": sort})
}

func (w world) rule(code, when, then, condition string) {
	w.add("reflex_rules", code, stamped(values{"code": code, "trigger_assay_id": to{"assays", when},
		"then_assay_id": to{"assays", then}, "condition": condition}))
}

func (w world) instruments() {
	machines := []struct{ code, name, department, assays string }{
		{"CH-1", "Chemistry line 1", "CORE/CHEM",
			"GLU NA K CL CO2 UREA CREA UA CA PHOS MG ALB TP BILT BILD ALT AST ALP GGT LDH CK AMY LIP CRP"},
		{"CH-2", "Chemistry line 2", "CORE/CHEM", "GLU NA K CL CO2 UREA CREA CA ALB TP BILT ALT AST ALP GGT CHOL TRIG HDL LDL FE TRF"},
		{"HM-1", "Cell counter 1", "CORE/HAEM", "WBC RBC HB HCT MCV MCH MCHC RDW PLT NEUT LYMP MONO EOS BASO RETI"},
		{"HM-2", "Cell counter 2", "CORE/HAEM", "WBC RBC HB HCT MCV MCH MCHC RDW PLT"},
		{"CG-1", "Coagulation analyser", "CORE/COAG", "PT INR APTT FIB DDIM AT3"},
		{"IM-1", "Immunoassay line 1", "CORE/IMM", "TSH FT4 FT3 CORT PTH VITD B12 FOL FERR TROP BNP"},
		{"IM-2", "Immunoassay line 2", "CORE/IMM", "LH FSH PRL E2 PROG TESTO HCG PSA CEA AFP"},
		{"SP-1", "Specific protein analyser", "CORE/IMM", "IGA IGG IGM C3 C4"},
		{"CH-3", "Chemistry line 3, night and emergency", "CORE/CHEM", "GLU NA K CL CREA UREA LIP CRP TROP CK AST ALT"},
		{"HM-3", "Cell counter 3, night and emergency", "CORE/HAEM", "WBC RBC HB HCT PLT"},
		{"CG-2", "Coagulation analyser, night and emergency", "CORE/COAG", "PT INR APTT DDIM"},
	}
	for _, m := range machines {
		w.add("instruments", m.code, stamped(values{"code": m.code, "name": m.name, "department_id": to{"departments", m.department}}))
		for i, assay := range strings.Fields(m.assays) {
			w.add("instrument_links", m.code+"/"+assay, values{"instrument_id": to{"instruments", m.code},
				"assay_id": to{"assays", assay}, "channel": i + 1})
		}
	}
}

func (w world) prices() {
	for _, p := range [][2]string{{"STD", "Standard prices"}, {"HOSP", "Hospital prices"}, {"GP", "Prices for general practice"},
		{"STAFF", "Staff prices"}} {
		w.add("price_lists", p[0], stamped(values{"code": p[0], "name": p[1], "currency": "EUR"}))
	}
	for i, a := range list("assays") {
		cents := 450 + (i*137)%2900
		w.price("STD", a["code"], "2025-01-01", cents*97/100)
		w.price("STD", a["code"], "2026-01-01", cents)
		w.price("HOSP", a["code"], "2026-01-01", cents*8/10)
		w.price("GP", a["code"], "2026-01-01", cents*9/10)
		if i%2 == 0 {
			w.price("STAFF", a["code"], "2026-01-01", cents/2)
		}
	}
}

func (w world) price(list, assay, from string, cents int) {
	w.add("price_lines", list+"/"+assay+"/"+from, stamped(values{
		"price_list_id": to{"price_lists", list}, "assay_id": to{"assays", assay}, "valid_from": from, "price": float64(cents) / 100,
	}))
}

func (w world) rest() {
	for _, t := range [][3]string{{"STDREP", "Standard report", "{{patient}}\n{{results}}\n"},
		{"CUMUL", "Cumulative report", "{{patient}}\n{{results by date}}\n"}, {"LABEL", "Tube label", "{{barcode}} {{name}}\n"},
		{"INVOICE", "Invoice", "{{lines}}\nTotal {{total}}\n"}} {
		w.add("report_templates", t[0], stamped(values{"code": t[0], "name": t[1], "body": []byte(t[2])}))
	}
	rights := []string{"order.enter", "order.cancel", "result.enter", "result.verify", "result.amend", "report.print", "setup.read",
		"setup.write", "price.read", "price.write", "user.admin"}
	for i, r := range [][2]string{{"TECH", "Technologist"}, {"SENIOR", "Senior technologist"}, {"DOCTOR", "Laboratory physician"},
		{"DESK", "Reception"}, {"ADMIN", "Administrator"}, {"AUDIT", "Auditor"}} {
		w.add("roles", r[0], stamped(values{"code": r[0], "name": r[1]}))
		for j, right := range rights {
			if (i+j)%3 != 0 || r[0] == "ADMIN" {
				w.right(r[0], right, []string{"view", "use", "full"}[(i+j)%3])
			}
		}
	}
	for _, year := range []string{"2024", "2025", "2026"} {
		w.holidays(year)
	}
	for _, s := range list("settings") {
		w.add("settings", s["code"], stamped(values{"code": s["code"], "value": s["value"]}))
	}
}

func (w world) right(role, code, level string) {
	w.add("role_rights", role+"/"+code, values{"role_id": to{"roles", role}, "right_code": code, "level": level})
}

func (w world) holidays(year string) {
	for _, h := range [][2]string{{"01-01", "New Year"}, {"05-01", "May Day"}, {"06-24", "Midsummer"}, {"11-01", "All Saints"},
		{"12-25", "Christmas Day"}, {"12-26", "Second Christmas Day"}} {
		w.add("holidays", year+"-"+h[0], values{"day": year + "-" + h[0], "name": h[1]})
	}
}
