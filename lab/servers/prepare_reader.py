# Makes the account that reads the directory and lets it see deleted objects.
# Arguments: the controller's configuration, its database, the account's password.
import sys

import ldb
from samba.auth import system_session
from samba.dcerpc import security
from samba.ndr import ndr_pack, ndr_unpack
from samba.param import LoadParm
from samba.samdb import SamDB

lp = LoadParm()
lp.load(sys.argv[1])
db = SamDB(url=sys.argv[2], session_info=system_session(), lp=lp)
base = str(db.domain_dn())
container = "OU=Service Accounts," + base
db.add({"dn": container, "objectClass": "organizationalUnit", "description": "Accounts of programs, never synced"})
db.newuser("svc-kambrel", sys.argv[3], userou="OU=Service Accounts", description="Reads the directory for Kambrel")
db.setexpiry("(sAMAccountName=svc-kambrel)", 0, no_expiry_req=True)
found = db.search(base, scope=ldb.SCOPE_SUBTREE, expression="(sAMAccountName=svc-kambrel)", attrs=["objectSid"])
sid = ndr_unpack(security.dom_sid, found[0]["objectSid"][0])

controls = ["show_deleted:1", "sd_flags:1:4"]
entry = db.search("CN=Deleted Objects," + base, scope=ldb.SCOPE_BASE, attrs=["nTSecurityDescriptor"], controls=controls)[0]
descriptor = ndr_unpack(security.descriptor, entry["nTSecurityDescriptor"][0])
grant = security.descriptor.from_sddl("D:(A;CI;LCRPLORC;;;%s)" % sid, security.dom_sid(db.get_domain_sid()))
for ace in grant.dacl.aces:
    descriptor.dacl_add(ace)
change = ldb.Message(entry.dn)
change["nTSecurityDescriptor"] = ldb.MessageElement(ndr_pack(descriptor), ldb.FLAG_MOD_REPLACE, "nTSecurityDescriptor")
db.modify(change, controls=controls)
