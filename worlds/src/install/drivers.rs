//! A driver package with its device and its service.

use stubble_core::model::RegValue;

use super::Installing;
use crate::names::guid;

const CONTROL: &str = "HKLM\\SYSTEM\\ControlSet001";
const DATABASE: &str = "HKLM\\SYSTEM\\DriverDatabase";

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("driver");
    let stem: String = product.short.chars().take(6).chain(one.number.to_string().chars()).collect();
    let (inf, published) = (format!("{stem}.inf"), format!("oem{}.inf", 100 + one.number));
    let store = format!("{inf}_amd64_{:016x}", one.rng.u64(..));
    let repository = format!("C:\\Windows\\System32\\DriverStore\\FileRepository\\{store}");
    one.machine.file(&format!("{}\\driver\\{inf}", product.folder), one.mark("program folder"));
    one.machine.folder(&repository, mark.clone());
    one.machine.file(&format!("{repository}\\{inf}"), mark.clone());
    let (company, name) = (&product.publisher.told, &product.name);
    one.machine.program(&format!("{repository}\\{stem}.sys"), company, name, mark.clone());
    one.machine.file(&format!("C:\\Windows\\INF\\{published}"), mark.clone());
    one.machine.program(&format!("C:\\Windows\\System32\\drivers\\{stem}.sys"), company, name, mark.clone());
    let list = RegValue::multi("", std::slice::from_ref(&store));
    one.machine.key(&format!("{DATABASE}\\DriverInfFiles\\{published}"), mark.clone());
    one.machine.value(&format!("{DATABASE}\\DriverInfFiles\\{published}"), list, mark.clone());
    let about = [("", published.as_str()), ("InfName", &inf), ("Provider", &product.publisher.told)];
    one.machine.own_key(&format!("{DATABASE}\\DriverPackages\\{store}"), &about, mark.clone());
    let class = guid(one.rng);
    let key = format!("{CONTROL}\\Control\\Class\\{class}\\0001");
    one.machine.own_key(&key, &[("InfPath", &published), ("ProviderName", &product.publisher.told)], mark.clone());
    let device = format!("{CONTROL}\\Enum\\USB\\VID_{:04X}&PID_0001\\1", one.rng.u16(..));
    let values = [("Driver", format!("{class}\\0001")), ("Service", stem.clone())];
    let values: Vec<(&str, &str)> = values.iter().map(|(name, text)| (*name, text.as_str())).collect();
    one.machine.own_key(&device, &values, mark);
    let image = format!("\\SystemRoot\\System32\\drivers\\{stem}.sys");
    let service = format!("{CONTROL}\\Services\\{stem}");
    one.machine.own_key(&service, &[("ImagePath", &image)], one.mark("driver service"));
    if one.rng.bool() {
        // All devices of a kind load it, between a filter of Windows and one of nobody.
        let ports = format!("{CONTROL}\\Control\\Class\\{{4D36E978-E325-11CE-BFC1-08002BE10318}}");
        let filters = one.machine.lists.get(&(ports.clone(), "UpperFilters".to_owned())).map_or(0, Vec::len);
        if filters == 0 {
            one.machine.entry(&ports, "UpperFilters", "serenum", crate::machine::Mark::windows());
        }
        one.machine.entry(&ports, "UpperFilters", &stem, one.mark("device filter"));
    }
}
