package odata

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
	"anagram/internal/environment/web"
)

const inXML = `<?xml version="1.0"?><edmx:Edmx Version="4.01" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
<Schema Namespace="Lab.Setup" Alias="L" xmlns="http://docs.oasis-open.org/odata/ns/edm">
<EnumType Name="Sex"><Member Name="F"/><Member Name="M"/></EnumType>
<EnumType Name="Days" IsFlags="true"><Member Name="Mo"/><Member Name="Tu"/></EnumType>
<TypeDefinition Name="Code" UnderlyingType="Edm.String" MaxLength="12"/>
<ComplexType Name="Place"><Property Name="town" Type="Edm.String"/></ComplexType>
<EntityType Name="Thing" Abstract="true"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32" Nullable="false"/></EntityType>
<EntityType Name="Assay" BaseType="L.Thing" HasStream="true">
<Property Name="code" Type="L.Code" Nullable="false"/><Property Name="price" Type="Edm.Decimal" Precision="10" Scale="2"/><Property Name="sex" Type="L.Sex"/><Property Name="days" Type="L.Days"/>
<Property Name="place" Type="L.Place"/><Property Name="tags" Type="Collection(Edm.String)" Nullable="false"/><Property Name="sheet" Type="Edm.Stream"/><Property Name="unit_id" Type="Edm.Int32"/>
<Property Name="rank" Type="Edm.Byte" DefaultValue="1" Nullable="false"/>
<NavigationProperty Name="unit" Type="L.Unit"><ReferentialConstraint Property="unit_id" ReferencedProperty="id"/></NavigationProperty>
<NavigationProperty Name="owner" Type="L.Unit" Nullable="false"/>
<NavigationProperty Name="panels" Type="Collection(L.Panel)" Partner="assays"/>
<Annotation Term="Org.OData.Core.V1.AlternateKeys"><Collection><Record><PropertyValue Property="Key"><Collection><Record><PropertyValue Property="Name" PropertyPath="code"/></Record></Collection></PropertyValue></Record></Collection></Annotation>
</EntityType>
<EntityType Name="Unit" BaseType="L.Thing"/>
<EntityType Name="Panel" BaseType="L.Thing"><NavigationProperty Name="assays" Type="Collection(L.Assay)" Partner="panels"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="assays" EntityType="L.Assay"><NavigationPropertyBinding Path="unit" Target="units"/><NavigationPropertyBinding Path="owner" Target="units"/></EntitySet>
<EntitySet Name="units" EntityType="L.Unit"><Annotation Term="Org.OData.Capabilities.V1.UpdateRestrictions"><Record><PropertyValue Property="Updatable" Bool="false"/></Record></Annotation></EntitySet><EntitySet Name="panels" EntityType="L.Panel"/></EntityContainer>
<Annotations Target="L.Thing/id"><Annotation Term="Org.OData.Core.V1.Computed"/></Annotations>
</Schema></edmx:DataServices></edmx:Edmx>`

const inJSON = `{"$Version":"4.01","$EntityContainer":"Lab.Setup.C","Lab.Setup":{"$Alias":"L",
"Sex":{"$Kind":"EnumType","F":0,"M":1},"Days":{"$Kind":"EnumType","$IsFlags":true,"Mo":1,"Tu":2},"Code":{"$Kind":"TypeDefinition","$UnderlyingType":"Edm.String","$MaxLength":12},
"Place":{"$Kind":"ComplexType","town":{"$Nullable":true}},
"Thing":{"$Kind":"EntityType","$Abstract":true,"$Key":["id"],"id":{"$Type":"Edm.Int32"}},
"Assay":{"$Kind":"EntityType","$BaseType":"L.Thing","$HasStream":true,"code":{"$Type":"L.Code"},"price":{"$Type":"Edm.Decimal","$Precision":10,"$Scale":2,"$Nullable":true},"sex":{"$Type":"L.Sex","$Nullable":true},
"days":{"$Type":"L.Days","$Nullable":true},"place":{"$Type":"L.Place","$Nullable":true},"tags":{"$Collection":true},"sheet":{"$Type":"Edm.Stream","$Nullable":true},"unit_id":{"$Type":"Edm.Int32","$Nullable":true},"rank":{"$Type":"Edm.Byte","$DefaultValue":1},
"unit":{"$Kind":"NavigationProperty","$Type":"L.Unit","$Nullable":true,"$ReferentialConstraint":{"unit_id":"id"}},"owner":{"$Kind":"NavigationProperty","$Type":"L.Unit"},
"panels":{"$Kind":"NavigationProperty","$Collection":true,"$Type":"L.Panel","$Partner":"assays"},
"@Org.OData.Core.V1.AlternateKeys":[{"Key":[{"Name":"code"}]}]},
"Unit":{"$Kind":"EntityType","$BaseType":"L.Thing"},"Panel":{"$Kind":"EntityType","$BaseType":"L.Thing","assays":{"$Kind":"NavigationProperty","$Collection":true,"$Type":"L.Assay","$Partner":"panels"}},
"C":{"$Kind":"EntityContainer","assays":{"$Collection":true,"$Type":"L.Assay","$NavigationPropertyBinding":{"unit":"units","owner":"units"}},"units":{"$Collection":true,"$Type":"L.Unit","@Org.OData.Capabilities.V1.UpdateRestrictions":{"Updatable":false}},"panels":{"$Collection":true,"$Type":"L.Panel"}},
"$Annotations":{"L.Thing/id":{"@Org.OData.Core.V1.Computed":true}}}}`

// Metadata says the same in both of its forms.
func TestMetadataInBothForms(t *testing.T) {
	t.Parallel()
	fromXML, err := readXML([]byte(inXML))
	require.NoError(t, err)
	fromJSON, err := readJSON([]byte(inJSON))
	require.NoError(t, err)
	for name, schema := range map[string]*schema{"XML": fromXML, "JSON": fromJSON} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &service{schema: schema, able: newAble()}
			require.NoError(t, s.makePlaces())
			place := s.described(s.places["assays"])
			type seen struct {
				kind                        record.Kind
				required, derived, byItself bool
				refers                      string
				length, digits, scale       int
				oneOf, anyOf                []string
			}
			got := map[string]seen{}
			for _, c := range place.Columns {
				got[c.Name] = seen{c.Kind, c.Required, c.Derived, c.Default, c.RefersTo, c.Limits.Characters, c.Limits.Digits, c.Limits.Scale, c.Limits.OneOf, c.Limits.AnyOf}
			}
			assert.Equal(t, map[string]seen{
				"id": {kind: record.Integer, derived: true}, "code": {kind: record.Text, required: true, length: 0}, "price": {kind: record.Decimal, digits: 10, scale: 2},
				"sex": {kind: record.Text, oneOf: []string{"F", "M"}}, "days": {kind: record.Text, anyOf: []string{"Mo", "Tu"}}, "place": {kind: record.JSON}, "tags": {kind: record.JSON, required: true},
				"sheet": {kind: record.Bytes}, "unit_id": {kind: record.Integer, refers: "units"}, "rank": {kind: record.Integer, byItself: true}, "owner": {kind: record.Integer, required: true, refers: "units"}, "media": {kind: record.Bytes},
			}, func() map[string]seen { c := got["code"]; c.length = 0; got["code"] = c; return got }())
			code, _ := place.Column("code")
			assert.Equal(t, 12, code.Limits.Characters, "by its type's definition")
			assert.Equal(t, [][]string{{"code"}}, place.Unique)
			assert.Equal(t, []string{"id"}, place.Primary)
			assert.True(t, s.described(s.places["units"]).CannotUpdate)
			links := s.described(s.places["panels/assays"])
			assert.Equal(t, []string{"from_id", "to_id"}, links.Primary)
			assert.Equal(t, []string{"panels", "assays"}, []string{links.Columns[0].RefersTo, links.Columns[1].RefersTo})
		})
	}
}

// A value goes from JSON into the form in which it is held and back; what is none is refused.
func TestValuesInJSON(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		typ, raw string
		held     any
		fails    bool
	}{
		{"Edm.String", `"a\u00e4"`, "aä", false}, {"Edm.String", `7`, nil, true}, {"Edm.String", `["a"]`, nil, true}, {"Edm.String", `"a\u0000"`, "a\x00", false},
		{"Edm.Int64", `"9223372036854775807"`, int64(9223372036854775807), false}, {"Edm.Int64", `9223372036854775807`, int64(9223372036854775807), false}, {"Edm.Int32", `1.5`, nil, true}, {"Edm.Int64", `"x"`, nil, true},
		{"Edm.Decimal", `12.50`, "12.5", false}, {"Edm.Decimal", `"12345678901234567890.123456789"`, "12345678901234567890.123456789", false}, {"Edm.Double", `"INF"`, nil, true},
		{"Edm.Boolean", `true`, int64(1), false}, {"Edm.Boolean", `"true"`, nil, true}, {"Edm.Date", `"2026-02-30"`, nil, true}, {"Edm.Date", `"2026-02-28"`, "2026-02-28", false},
		{"Edm.DateTimeOffset", `"2026-01-02T03:04:05+02:00"`, "2026-01-02T01:04:05Z", false}, {"Edm.Binary", `"AP8"`, []byte{0, 255}, false}, {"Edm.Binary", `"?"`, nil, true},
		{"Edm.Untyped", `{"b":1,"a":[2]}`, `{"a":[2],"b":1}`, false}, {"Edm.String", `null`, nil, false},
	} {
		s := &service{schema: newSchema()}
		held, err := s.column(property{name: "p", typ: c.typ}).held([]byte(c.raw))
		if assert.Equal(t, c.fails, err != nil, "%s %s: %v", c.typ, c.raw, err); !c.fails {
			assert.Equal(t, c.held, held, "%s %s", c.typ, c.raw)
		}
	}
}

// nowhere is a client that asks nobody.
func nowhere(t testing.TB) *web.Client {
	t.Helper()
	c, err := web.Open(web.Options{Name: "lab", Base: "http://127.0.0.1:1/"})
	require.NoError(t, err)
	return c
}
