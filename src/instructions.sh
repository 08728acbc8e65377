# Tells the native compiler what it may use: processors of the last ten years have these instructions. To be sourced; sets "instructions".
instructions=()
if grep -qw avx2 /proc/cpuinfo && grep -qw bmi2 /proc/cpuinfo && grep -qw fma /proc/cpuinfo; then
  instructions=(-p:IlcInstructionSet=x86-64-v3)
fi
