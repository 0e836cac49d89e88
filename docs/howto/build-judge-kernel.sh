#!/usr/bin/env bash
# Build `linux-judge`: a user-mode Linux kernel, from Debian's own source packages, whose drivers judge ours.
# Built in: vfat, exfat, ntfs3, ext2/3/4, hfsplus, apfs (experimental, read-write), udf, iso9660, xfs, btrfs, f2fs, loop, hostfs.
# Takes some 15 minutes on two quiet cores and 3 GiB of disk; needs root for apt-get.  Usage: build-judge-kernel.sh [OUT]
set -euo pipefail
out=$(realpath "${1:-linux-judge}"); work=$(mktemp -d); trap 'rm -rf "$work"' EXIT; cd "$work"
apt-get install -y -q linux-source-6.1 flex bison bc libelf-dev libssl-dev xz-utils gcc make
apt-get download apfs-dkms && dpkg -x apfs-dkms_*.deb apfs
tar xf /usr/src/linux-source-6.1.tar.xz && cd linux-source-6.1
cp -r ../apfs/usr/src/linux-apfs-rw-* fs/apfs
objects=$(sed -n '/^apfs-y/,/[^\\]$/p' fs/apfs/Makefile)
printf 'obj-y = apfs.o\n%s\n' "$objects" > fs/apfs/Makefile
echo 'obj-y += apfs/' >> fs/Makefile
make -s ARCH=um x86_64_defconfig
./scripts/config -e NTFS3_FS -e NTFS3_LZX_XPRESS -e HFSPLUS_FS -e HFS_FS -e VFAT_FS -e EXFAT_FS -e UDF_FS -e ISO9660_FS -e JOLIET \
  -e ZISOFS -e EXT4_FS -e XFS_FS -e BTRFS_FS -e F2FS_FS -e LIBCRC32C -e NLS_UTF8 -e NLS_CODEPAGE_437 -e NLS_ISO8859_1 -e NLS_ASCII \
  -e HOSTFS -e BLK_DEV_UBD -e BLK_DEV_LOOP -e MODULES -d DEBUG_INFO -d SOUND -d NETDEVICES
make -s ARCH=um olddefconfig && make -s ARCH=um -j"$(nproc)" linux
strip -o "$out" linux && ls -l "$out"
