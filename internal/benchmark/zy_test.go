package benchmark
import ("testing";"os";"fmt";"time")
func TestY(t *testing.T){
 if os.Getenv("ZY")=="" {t.Skip()}
 p:=Plan{Seeds:[]uint64{101,102},PerFamily:4,Progress:func(int,int){}}
 for _,st:=range stretches { for _,cont:=range []bool{true} { sc:=p.scenes(st,cont,true); al,err:=walkAll(sc,ruleOf(.1)); if err!=nil {t.Fatal(err)}; o:=tally("x",sc,al); fmt.Printf("%s contaminated %v: recall %d/%d=%.2f false %d stated %.1f\n",st.Period,cont,o.Found,o.Faults,float64(o.Found)/float64(o.Faults),o.False,.1*o.Weeks*7/30)
 b:=time.Now(); as,err:=asked(sc,ruleOf(.1)); if err!=nil {t.Fatal(err)}
 al,err=walkAll(as,ruleOf(.1)); if err!=nil {t.Fatal(err)}; o=tally("x",as,al); fmt.Printf("    answered: recall %d/%d=%.2f false %d took %s\n",o.Found,o.Faults,float64(o.Found)/float64(o.Faults),o.False,time.Since(b)) 
 n:=0; k:=0; for i:=range as { k+=len(as[i].Exclusions)-len(sc[i].Exclusions); n+=len(as[i].Past)}; fmt.Println("    faults in past",n,"found by answers",k) }}}
